"""MSPM0: frames, the password, a chip that does not let itself be read, and what is not programmed twice."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

from greenstep.bench.trial import prepare, run, sample_for
from greenstep.core.dialects.mspm0_slau887 import Command, crc32, framed
from greenstep.core.image import Piece
from greenstep.core.plan.write_options import WriteOptions

BOARD, WITH_PASSWORD = "mspm0l1306", "mspm0g3507"


class Mspm0(unittest.TestCase):
    def test_frames_and_their_sum(self) -> None:
        self.assertEqual(framed(bytes([Command.CONNECTION])), bytes.fromhex("80 01 00 12 3A 61 44 DE"))
        self.assertEqual(crc32(b"123456789"), 0xCBF43926 ^ 0xFFFFFFFF)

    def test_a_wrong_password_is_sent_once_and_only_when_it_is_needed(self) -> None:
        image = {"flash": sample_for(WITH_PASSWORD, 900)}
        wrong = WriteOptions(settings={"password": "11" * 32})
        for purpose, images, words, ended, counted in (
            ("greet", None, wrong, (0, ""), 0),
            ("upload", image, wrong, (5, "locked"), 1),
            ("upload", image, WriteOptions(settings={"password": "FF"}), (5, "setting"), 0),
        ):
            for compares in (True, False):
                trial = run(WITH_PASSWORD, images, purpose=purpose, options=words, compare=compares)
                chip: Any = trial.line.chip
                with self.subTest(purpose, compares=compares):
                    key = trial.findings[0].key if trial.findings else ""
                    self.assertEqual((trial.end.exit_code, key), ended)
                    self.assertEqual((chip.wrong, chip.violations), (counted, []))
        for purpose in ("verify", "erase", "backup"):
            trial = run(WITH_PASSWORD, image if purpose == "verify" else None, purpose=purpose, options=wrong)
            self.assertNotEqual(trial.end.exit_code, 0)
            self.assertEqual(trial.line.chip.wrong, 1, purpose)  # type: ignore[attr-defined]

    def test_a_chip_that_is_not_read_is_proven_by_its_sums(self) -> None:
        runner, trial = prepare(BOARD, {"flash": sample_for(BOARD, 3000)})
        trial.line.chip.kind = replace(trial.line.chip.kind, reads=False)  # type: ignore[attr-defined]
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.exit_code, trial.end.green), (0, True), trial.findings)
        self.assertIn("the chip's own checksum", trial.step("verify").evidence)

    def test_the_boot_configuration_is_left_out(self) -> None:
        image = sample_for(BOARD, 3000)
        longer = replace(image, pieces=(*image.pieces, Piece(0x41C00000, b"\x00" * 128)))
        trial = run(BOARD, {"flash": longer})
        self.assertEqual((trial.end.exit_code, trial.end.green), (0, True), trial.findings)
        self.assertIn("left out: it can lock the chip for good", str(trial.events))

    def test_nothing_is_programmed_twice_whatever_answer_is_lost(self) -> None:
        image = sample_for(BOARD, 5000)
        count = run(BOARD, {"flash": image}).line.to_host_count
        for place in range(count - 290, count - 20, 7):
            trial = run(BOARD, {"flash": image}, faults=(f"drop-to-host={place}",))
            self.assertEqual((trial.end.exit_code, trial.line.chip.violations), (0, []), place)
            self.assertTrue(trial.holds(image))


if __name__ == "__main__":
    unittest.main()
