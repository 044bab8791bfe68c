"""PIC32 by AN1388: frames and records, addresses of several windows, and a block that is neither there nor blank."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

from greenstep.bench.trial import prepare, run, sample_for
from greenstep.core.dialects.pic32_an1388 import Command, framed, record
from greenstep.core.image import Piece
from greenstep.core.plan.write_options import CompareWith, WriteOptions

BOARD = "pic32mx795f512"


class Pic32(unittest.TestCase):
    def test_frames_and_records_as_the_note_has_them(self) -> None:
        self.assertEqual(framed(bytes([Command.VERSION])), bytes.fromhex("01 10 01 21 10 10 04"))
        self.assertEqual(record(0, 0x100, b"\x21\x46"), bytes.fromhex("02 01 00 00 21 46 96"))

    def test_virtual_addresses_and_configuration_words(self) -> None:
        image = sample_for(BOARD, 3000)
        piece = image.pieces[0]
        pieces = (Piece(piece.address | 0x80000000, piece.data), Piece(0xBFC02FF0, b"\xff" * 16))
        trial = run(BOARD, {"flash": replace(image, pieces=pieces)})
        self.assertEqual((trial.end.exit_code, trial.end.green), (0, True), trial.findings)
        self.assertTrue(trial.holds(image))
        self.assertIn("left out: 1FC02FF0-1FC02FFF, 16 bytes of configuration words", str(trial.events))
        for place in (0x1FC00000, 0x1FC02F00):
            startup = replace(image, pieces=(piece, Piece(place, b"\x01" * 64)))
            trial = run(BOARD, {"flash": startup})
            self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "does-not-fit"))

    def test_a_cut_leaves_a_loader_that_stays(self) -> None:
        image = sample_for(BOARD, 9000)
        for entry in (0, 0x1000, 0x1800):
            count = run(BOARD, {"flash": image}, compare=False, start=False).line.to_chip_count
            for tenth in (3, 5, 8):
                faults = (f"cut-after={count * tenth // 10}",)
                options = WriteOptions(settings={"entry": entry}, compare=CompareWith.OFF)
                runner, trial = prepare(BOARD, {"flash": image}, faults=faults, options=options)
                chip: Any = trial.line.chip
                chip.entry = entry
                trial.events.extend(runner.run())
                at = chip.loader_bytes + entry
                self.assertEqual(bytes(chip.flash[at : at + 4]), b"\xff" * 4, (entry, tenth))

    def test_a_loader_in_the_boot_flash_alone(self) -> None:
        piece = sample_for(BOARD, 3000).pieces[0]
        image = replace(sample_for(BOARD, 3000), pieces=(Piece(0x1D000000, piece.data),))
        self.assertEqual(run(BOARD, {"flash": image}).findings[0].key, "hits-bootloader")
        runner, trial = prepare(BOARD, {"flash": image}, bootloader_bytes=0, start=False)
        chip: Any = trial.line.chip
        chip.loader_bytes = 0
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.green, trial.holds(image)), (True, True), trial.findings)

    def test_an_image_that_is_there_is_not_written(self) -> None:
        image = sample_for(BOARD, 3000)
        runner, trial = prepare(BOARD, {"flash": image})
        piece = image.pieces[0]
        at = piece.address - trial.line.chip.base
        trial.line.chip.flash[at : at + len(piece.data)] = piece.data
        trial.events.extend(runner.run())
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        self.assertIn("nothing to", trial.step("write").evidence)

    def test_every_lost_character_of_a_block_is_made_good(self) -> None:
        image = sample_for(BOARD, 900)
        count = run(BOARD, {"flash": image}).line.to_chip_count
        for place in range(count - 700, count - 40, 29):
            trial = run(BOARD, {"flash": image}, faults=(f"drop-to-chip={place}",))
            self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), place)


if __name__ == "__main__":
    unittest.main()
