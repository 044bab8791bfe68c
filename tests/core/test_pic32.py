"""PIC32 by AN1388: frames and records, addresses of several windows, and a block that is neither there nor blank."""

from __future__ import annotations

import unittest
from dataclasses import replace

from greenstep.bench.trial import prepare, run, sample_for
from greenstep.core.dialects.pic32_an1388 import Command, framed, record
from greenstep.core.image import Piece

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
        self.assertIn("boot flash 1FC02FF0-1FC02FFF left out", str(trial.events))

    def test_an_image_that_is_there_is_not_written(self) -> None:
        image = sample_for(BOARD, 3000)
        climb, trial = prepare(BOARD, {"flash": image})
        piece = image.pieces[0]
        at = piece.address - trial.line.chip.base
        trial.line.chip.flash[at : at + len(piece.data)] = piece.data
        trial.events.extend(climb.run())
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
