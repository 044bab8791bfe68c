"""MSP430: two edges of TEST, a password that erases, and what would shut the loader off."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

from greenstep.bench.trial import prepare, run, sample_for
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects import msp430_slau319, msp430_slau550
from greenstep.core.dialects.registry import find_dialect
from greenstep.core.errors import RefusedFault
from greenstep.core.hookup.circuits import entered_by, named_hookup, with_sequences
from greenstep.core.image import Image, Piece
from greenstep.core.plan.layout import make_plan
from greenstep.core.plan.write_options import WriteOptions

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
    def put(self, board: str, options: WriteOptions, purpose: Any = "upload", size: int = 900) -> Any:
        image = sample_for(board, size)
        runner, trial = prepare(
            board, None if purpose == "backup" else {"flash": image}, purpose=purpose, options=options
        )
        trial.line.chip.information[:64] = INFORMATION  # type: ignore[attr-defined]
        before = bytes(trial.line.chip.flash)
        trial.events.extend(runner.run())
        return trial, before

    def old_program(self, board: str) -> Any:
        """What is in the chip."""
        _, trial = prepare(board)
        chip = trial.line.chip
        return replace(sample_for(board, 900), pieces=(Piece(chip.base, bytes(chip.flash)),))

    def test_without_one_all_is_erased_and_that_is_told(self) -> None:
        for board in (OLD, NEW, FRAM):
            trial, _ = self.put(board, WriteOptions())
            chip: Any = trial.line.chip
            self.assertEqual((trial.end.exit_code, chip.wrong), (0, 0), trial.findings)
            said = {OLD: "information memory too", NEW: "information memory stays", FRAM: "not known for sure"}[board]
            self.assertIn(said, str(trial.events))
        self.assertIn("90 to 80", str(self.put(OLD, WriteOptions())[0].step("sync").evidence))

    def test_greet_and_what_has_none_send_none(self) -> None:
        for board in (OLD, NEW, FRAM):
            for purpose in ("verify", "backup"):
                trial, before = self.put(board, WriteOptions(), purpose)
                self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "locked"), purpose)
                self.assertEqual((trial.line.chip.wrong, bytes(trial.line.chip.flash)), (0, before))
            self.assertEqual(run(board, purpose="greet").line.chip.wrong, 0)  # type: ignore[attr-defined]

    def test_the_old_program_opens_the_chip(self) -> None:
        for board in (OLD, NEW):
            options = WriteOptions(settings={"old": self.old_program(board)})
            trial, _ = self.put(board, options, "backup")
            self.assertEqual((trial.end.exit_code, trial.line.chip.wrong), (0, 0), trial.findings)
        trial, _ = self.put(OLD, WriteOptions(settings={"old": self.old_program(OLD)}))
        self.assertEqual((trial.end.exit_code, trial.line.chip.wrong), (0, 0), trial.findings)
        self.assertEqual(bytes(trial.line.chip.information[:64]), INFORMATION)
        self.assertIn("if it is not the chip's, that erases the chip", str(trial.events))

    def test_a_wrong_one_is_sent_once(self) -> None:
        wrong = WriteOptions(settings={"password": "0123456789ABCDEF" * 4})
        for board in (OLD, NEW):
            trial, _ = self.put(board, wrong, "verify")
            self.assertEqual((trial.end.exit_code, trial.findings[0].key), (6, "password-erased"))
            self.assertIn("holds no whole application", trial.end.chip_state)
            self.assertEqual((trial.line.chip.wrong, set(trial.line.chip.flash)), (1, {0xFF}))
        for purpose in ("upload", "backup"):
            trial, _ = self.put(NEW, wrong, purpose)
            self.assertEqual((trial.end.exit_code, trial.findings[0].key), (6, "password-erased"))
        short = replace(sample_for(OLD, 900), pieces=sample_for(OLD, 900).pieces[:1])
        trial, _ = self.put(OLD, WriteOptions(settings={"old": short}), "verify")
        self.assertEqual((trial.findings[0].key, trial.line.chip.wrong), ("setting", 0))

    def silicon(self, board: str, purpose: Any = "upload", settings: Any = None, **chip: Any) -> Any:
        image = sample_for(board, 900)
        options = WriteOptions(settings=settings or {})
        runner, trial = prepare(board, {"flash": image}, purpose=purpose, options=options, start=False)
        for name, value in chip.items():
            setattr(trial.line.chip, name, value)
        before = bytes(trial.line.chip.flash)
        trial.events.extend(runner.run())
        return trial, bytes(trial.line.chip.flash) != before

    def test_first_loaders_erase_in_several_goes_and_never_for_a_password(self) -> None:
        wrong = {"password": "0123456789ABCDEF" * 4}
        for tells in (True, False):
            trial, _ = self.silicon(OLD, version=b"\x01\x60", tells=tells, needs=12)
            self.assertEqual((trial.end.green, trial.line.chip.violations), (True, []), trial.findings)
            trial, changed = self.silicon(OLD, "verify", wrong, version=b"\x01\x60", tells=tells)
            self.assertEqual((trial.end.exit_code, trial.findings[0].key, changed), (5, "locked", False))

    def test_an_erase_that_ends_in_a_reset(self) -> None:
        trial, _ = self.silicon(FRAM, resets=True)
        self.assertEqual((trial.end.green, trial.holds(sample_for(FRAM, 900))), (True, True), trial.findings)

    def test_the_number_that_shows_after_the_password_is_compared(self) -> None:
        for told, status in ((0x8005, 0), (0x8000, 6), (0x1234, 0)):
            trial, _ = self.silicon(NEW, descriptor=told)
            self.assertEqual(trial.end.exit_code, status, trial.findings)
        settings = {"old": self.old_program(NEW)}
        trial, changed = self.silicon(NEW, "upload", settings, descriptor=0x8000)
        self.assertEqual((trial.end.exit_code, trial.findings[0].key, changed), (5, "other-chip", False))

    def test_a_part_is_named_where_several_tell_one_number(self) -> None:
        family = Catalogue.load().find("msp430")
        trial = run(OLD, purpose="greet", choice=family)
        self.assertIn("one of MSP430G2153", trial.step("chip").evidence)
        trial = run(OLD, {"flash": sample_for(OLD, 900)}, choice=family)
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "which-chip"))
        self.assertEqual(trial.end.chip_state, "nothing on the chip was changed")

    def test_programs_are_never_left_out(self) -> None:
        for name, start in (("msp430fr5968", 0x4400), ("msp430f149", 0x1100), ("msp430fr2311", 0xF100)):
            part = Catalogue.load().find(name).first
            self.assertEqual(part.flash.start, start)
            image = Image("gauge.hex", (Piece(start, bytes(range(64))), Piece(0xFFE0, bytes(32))))
            dialect = find_dialect(part.dialect)
            self.assertEqual(
                dialect.fit(part, {"flash": image}, {}, frozenset()).images["flash"].pieces, image.pieces
            )
            below = Image("gauge.hex", (Piece(start - 0x200, bytes(64)), Piece(0xFFE0, bytes(32))))
            with self.assertRaises(RefusedFault):
                make_plan(part, dialect, {"flash": below}, WriteOptions())

    def test_what_locks_is_told(self) -> None:
        part = Catalogue.load().find("msp430fr5969").first
        for place, held, said in ((0xFF80, "55555555", "locks JTAG"), (0xFF88, "AAAA", "encapsulates")):
            image = Image("gauge.hex", (Piece(0x4400, bytes(64)), Piece(place, bytes.fromhex(held))))
            notes = find_dialect(part.dialect).fit(part, {"flash": image}, {}, frozenset()).notes
            self.assertTrue(any(said in note for note in notes), notes)

    def test_parts_with_tck_have_it_inverted(self) -> None:
        levels = {
            name: Catalogue.load().find(name).first.boot_level
            for name in ("msp430f149", "msp430f2370", "msp430f2274")
        }
        self.assertEqual(list(levels.values()), ["low", "high", "high"])

    def test_the_newer_ones_are_asked_whether_all_is_there(self) -> None:
        _, trial = prepare(NEW)
        held = self.old_program(NEW)
        trial = run(NEW, {"flash": held}, options=WriteOptions(settings={"old": held}))
        self.assertIn("nothing to erase", trial.step("erase").evidence)
        self.assertIn("compared before", trial.step("verify").evidence)

    def test_information_memory_is_left_out_and_locking_must_be_meant_twice(self) -> None:
        image = sample_for(OLD, 900)
        both = replace(image, pieces=(Piece(0x1000, b"\x01" * 64), *image.pieces))
        self.assertIn("left out: 1000-103F, 64 bytes of information memory", str(run(OLD, {"flash": both}).events))
        shut = replace(image, pieces=(image.pieces[0], Piece(0xFFDE, b"\x55\xaa" + image.pieces[1].data)))
        for even_if, status in (((), 5), (("protection",), 5), (("protection", "lock-out"), 0)):
            trial = run(OLD, {"flash": shut}, options=WriteOptions(even_if=frozenset(even_if)), start=False)
            self.assertEqual(trial.end.exit_code, status, even_if)


if __name__ == "__main__":
    unittest.main()
