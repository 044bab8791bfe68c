"""MSP430: two edges of TEST, a password that erases, and what would shut the loader off."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

from greenstep.bench.trial import prepare, run, sample_for
from greenstep.core.dialects import msp430_slau319, msp430_slau550
from greenstep.core.hookup import named_hookup
from greenstep.core.hookup.circuits import entered_by, with_sequences
from greenstep.core.image import Piece
from greenstep.core.wishes import Wishes

OLD, NEW, FRAM = "msp430g2553", "msp430f5438a", "msp430fr5969"
INFORMATION = bytes(range(64))


class Entering(unittest.TestCase):
    def test_the_usual_moves_do_not_enter_and_those_of_a_person_stay(self) -> None:
        usual = named_hookup("dtr-reset-rts-boot", "high")
        self.assertEqual(run(OLD, purpose="greet", hookup=usual, compare=True).end.exit_code, 0)
        own = with_sequences(usual, "boot on; reset on; wait 50 ms; reset off", None)
        trial = run(OLD, purpose="greet", hookup=own)
        self.assertEqual(trial.end.exit_code, 4)
        self.assertEqual(entered_by(own, "reset on; reset off").enter, own.enter)
        moved = entered_by(usual, "boot on; reset on; reset off")
        self.assertEqual(entered_by(moved, "", "boot on; reset on; reset off").enter, usual.enter)


class Frames(unittest.TestCase):
    def test_as_the_documents_have_them(self) -> None:
        version = msp430_slau319.framed(msp430_slau319.Command.VERSION)
        self.assertEqual(version, bytes.fromhex("80 1E 04 04 00 00 00 00 7B E5"))
        self.assertEqual(msp430_slau550.framed(b"\x19"), bytes.fromhex("80 01 00 19 E8 62"))


class Passwords(unittest.TestCase):
    def put(self, board: str, wishes: Wishes, purpose: Any = "upload", size: int = 900) -> Any:
        image = sample_for(board, size)
        climb, trial = prepare(
            board, None if purpose == "backup" else {"flash": image}, purpose=purpose, wishes=wishes
        )
        trial.line.chip.information[:64] = INFORMATION  # type: ignore[attr-defined]
        before = bytes(trial.line.chip.flash)
        trial.events.extend(climb.run())
        return trial, before

    def old_program(self, board: str) -> Any:
        """What is in the chip."""
        _, trial = prepare(board)
        chip = trial.line.chip
        return replace(sample_for(board, 900), pieces=(Piece(chip.base, bytes(chip.flash)),))

    def test_without_one_all_is_erased_and_that_is_told(self) -> None:
        for board in (OLD, NEW, FRAM):
            trial, _ = self.put(board, Wishes())
            chip: Any = trial.line.chip
            self.assertEqual((trial.end.exit_code, chip.wrong), (0, 0), trial.findings)
            self.assertIn("information memory too", str(trial.events))
        self.assertIn("90 to 80", str(self.put(OLD, Wishes())[0].step("sync").evidence))

    def test_greet_and_what_has_none_send_none(self) -> None:
        for board in (OLD, NEW, FRAM):
            for purpose in ("verify", "backup"):
                trial, before = self.put(board, Wishes(), purpose)
                self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "locked"), purpose)
                self.assertEqual((trial.line.chip.wrong, bytes(trial.line.chip.flash)), (0, before))
            self.assertEqual(run(board, purpose="greet").line.chip.wrong, 0)  # type: ignore[attr-defined]

    def test_the_old_program_opens_the_chip(self) -> None:
        for board in (OLD, NEW):
            wishes = Wishes(settings={"old": self.old_program(board)})
            trial, _ = self.put(board, wishes, "backup")
            self.assertEqual((trial.end.exit_code, trial.line.chip.wrong), (0, 0), trial.findings)
        trial, _ = self.put(OLD, Wishes(settings={"old": self.old_program(OLD)}))
        self.assertEqual((trial.end.exit_code, trial.line.chip.wrong), (0, 0), trial.findings)
        self.assertEqual(bytes(trial.line.chip.information[:64]), INFORMATION)
        self.assertIn("if it is not the chip's, that erases the chip", str(trial.events))

    def test_a_wrong_one_is_sent_once(self) -> None:
        wrong = Wishes(settings={"password": "0123456789ABCDEF" * 4})
        for board in (OLD, NEW):
            trial, _ = self.put(board, wrong, "verify")
            self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "locked"))
            self.assertEqual(trial.line.chip.wrong, 1)
        short = replace(sample_for(OLD, 900), pieces=sample_for(OLD, 900).pieces[:1])
        trial, _ = self.put(OLD, Wishes(settings={"old": short}), "verify")
        self.assertEqual((trial.findings[0].key, trial.line.chip.wrong), ("setting", 0))

    def test_the_newer_ones_are_asked_whether_all_is_there(self) -> None:
        _, trial = prepare(NEW)
        held = self.old_program(NEW)
        trial = run(NEW, {"flash": held}, wishes=Wishes(settings={"old": held}))
        self.assertIn("nothing to erase", trial.step("erase").evidence)
        self.assertIn("compared before", trial.step("verify").evidence)

    def test_information_memory_is_left_out_and_locking_must_be_meant_twice(self) -> None:
        image = sample_for(OLD, 900)
        both = replace(image, pieces=(Piece(0x1000, b"\x01" * 64), *image.pieces))
        self.assertIn("information memory 1000-103F left out", str(run(OLD, {"flash": both}).events))
        shut = replace(image, pieces=(image.pieces[0], Piece(0xFFDE, b"\x55\xaa" + image.pieces[1].data)))
        for even_if, status in (((), 5), (("protection",), 5), (("protection", "lock-out"), 0)):
            trial = run(OLD, {"flash": shut}, wishes=Wishes(even_if=frozenset(even_if)), start=False)
            self.assertEqual(trial.end.exit_code, status, even_if)


if __name__ == "__main__":
    unittest.main()
