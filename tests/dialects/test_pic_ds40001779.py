"""PIC18 with the unified bootloader: what a damaged request was taken for, and where the program begins."""

from __future__ import annotations

import random
import unittest

from greenstep.bench.trial import Trial, prepare, run, sample_for
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.families.pic16 import as_in_chip, code_of_words
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import WriteOptions

from ..sample import some

BOARD, WORDS = "pic18f26k40", "pic16f1938"


class Unified(unittest.TestCase):
    def test_any_damage_to_a_request_that_erases_is_made_good_or_told(self) -> None:
        """The chip is full; all of the image differs, or one row that is blank: then that it is blank afterwards
        does not show that it was erased."""
        image, full = sample_for(BOARD, 700), random.Random(7).randbytes(0x10000)
        held = bytearray(full)
        held[0x400 : 0x400 + 700] = image.pieces[0].data[:700]
        held[0x500:0x540] = b"\xff" * 64
        for before, places in ((full, some(range(503, 620, 6), 7)), (bytes(held), some(range(197, 250, 2), 9))):
            told = 0
            for place in places:
                for mask in ("02", "30"):
                    trial = self.upload(image, before, f"flip-to-chip={place}:{mask}")
                    with self.subTest(place=place, mask=mask):
                        if trial.end.exit_code:
                            self.assertEqual(trial.findings[0].key, "erased-beside")
                            told += 1
                            continue
                        self.assertTrue(trial.holds(image))
                        self.assertEqual(bytes(trial.line.chip.flash[0x6C0:]), before[0x6C0:])
            self.assertGreater(told, 0)

    def upload(self, image: Image, before: bytes, *faults: str) -> Trial:
        runner, trial = prepare(BOARD, {"flash": image}, faults)
        trial.line.chip.flash[0x400:] = before[0x400:]
        trial.events.extend(runner.run())
        return trial

    def test_a_cut_leaves_a_chip_whose_loader_stays(self) -> None:
        image = sample_for(BOARD, 2000)
        count = run(BOARD, {"flash": image}).line.to_chip_count
        for tenth in (4, 6, 8):
            trial = run(BOARD, {"flash": image}, faults=(f"cut-after={count * tenth // 10}",))
            flash = trial.line.chip.flash
            self.assertTrue(flash[0x400:0x402] == b"\xff\xff" or trial.holds(image), tenth)

    def test_the_program_s_place_is_a_setting(self) -> None:
        image = Image("pump.hex", (Piece(0x600, sample_for(BOARD, 700).pieces[0].data),))
        for offset, status in (({}, 0), ({"offset": 0x800}, 5)):
            trial = run(BOARD, {"flash": image}, options=WriteOptions(settings=offset), start=False)
            self.assertEqual(trial.end.exit_code, status, trial.findings)

    def test_parts_that_other_loaders_are_for_too(self) -> None:
        part = Catalogue.load().find("pic18f46k22").first
        self.assertIn("pic-ds40001779", part.also)
        self.assertEqual(part.speaking("pic-ds40001779").flash.usable_start, 0x400)
        self.assertEqual(Catalogue.load().find("pic18lf47k40").first.wires.volts_range, (1.8, 3.6))


class WhatItTells(unittest.TestCase):
    def test_a_damaged_key_erases_nothing_and_is_no_erase_beside(self) -> None:
        """Characters 4 and 5 of each request; both kinds of loader."""
        image, full = sample_for(BOARD, 700), random.Random(7).randbytes(0x10000)
        for silent in (True, False):
            for request in some(range(48, 60), 4):
                for key in (4, 5):
                    runner, trial = prepare(
                        BOARD, {"flash": image}, (f"flip-to-chip={10 * request + key}:10",), compare=False
                    )
                    chip = trial.line.chip
                    chip.flash[0x400:] = full[0x400:]  # type: ignore[attr-defined]
                    chip.silent_on_key = silent  # type: ignore[attr-defined]
                    trial.events.extend(runner.run())
                    keys = [finding.key for finding in trial.findings]
                    self.assertTrue(trial.end.exit_code == 0 or keys == ["erased-beside"], keys)
                    self.assertTrue(trial.end.exit_code or trial.holds(image))

    def test_the_number_of_another_part_is_refused(self) -> None:
        for device, status in ((0x6980, 0), (0x69A0, 5), (0x1234, 0)):
            runner, trial = prepare(BOARD, {"flash": sample_for(BOARD, 700)})
            trial.line.chip.device = device  # type: ignore[attr-defined]
            trial.events.extend(runner.run())
            self.assertEqual(trial.end.exit_code, status, trial.findings)


class Words(unittest.TestCase):
    """A PIC16: two bytes of a hex file to a word of 14 bits."""

    def test_blank_words_stay_blank(self) -> None:
        """3FFF within the image, and between two of its pieces."""
        code = bytes.fromhex("8431 082c ff3f ff3f ff34 0034") * 30
        image = Image("pump.hex", (Piece(0x800, code), Piece(0xB06, code[:20])))
        runner, trial = prepare(WORDS, {"flash": image})
        trial.events.extend(runner.run())
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        flash = bytes(trial.line.chip.flash)
        self.assertEqual(flash[0x800 : 0x800 + len(code)], code)
        self.assertEqual(flash[0xB00:0xB1C], b"\xff\x3f" * 3 + code[:20] + b"\xff\x3f")
        self.assertEqual(flash[0x7FE:0x800], b"\xa5\x25")

    def test_a_pic18_that_is_a_pic16_is_refused_before_anything_is_erased(self) -> None:
        """Its loader's own code shows it; and the other way round, whatever device id it tells."""
        for board, chip, says in ((WORDS, BOARD, "words have 14 bits"), (BOARD, WORDS, "words have 16 bits")):
            runner, trial = prepare(board, {"flash": sample_for(chip, 700)}, chip=chip)
            trial.line.chip.device = 0x1234
            before = bytes(trial.line.chip.flash)
            trial.events.extend(runner.run())
            self.assertEqual(trial.end.exit_code, 5)
            self.assertIn(says, trial.findings[0].cause)
            self.assertEqual(bytes(trial.line.chip.flash), before)

    def test_half_words_and_wide_ones_are_refused_and_nothing_is_sent(self) -> None:
        code = bytes.fromhex("8431 082c") * 20
        for piece in (Piece(0x801, code), Piece(0x800, code[:-1]), Piece(0x800, code + b"\x00\x40")):
            trial = run(WORDS, {"flash": Image("pump.hex", (piece,))})
            self.assertEqual((trial.end.exit_code, trial.line.to_chip_count), (5, 0))

    def test_what_is_read_is_what_was_written(self) -> None:
        """Read back and written again, byte for byte; only the blank words are FFFF."""
        image = sample_for(WORDS, 5000)
        code = image.pieces[0].data
        held = code_of_words(image)[0].pieces[0].data
        self.assertEqual(len(held), len(code))
        self.assertEqual(as_in_chip(held), code)
        for at in range(0, len(code), 2):
            self.assertTrue(
                held[at : at + 2] == code[at : at + 2]
                or (held[at : at + 2], code[at : at + 2]) == (b"\xff\xff", b"\xff\x3f")
            )
        self.assertEqual(run(WORDS, {"flash": Image("back.hex", (Piece(0x800, held),))}).end.exit_code, 0)

    def test_configuration_and_eeprom_are_left_out_and_told(self) -> None:
        more = (Piece(0x10000, b"\x01\x3f"), Piece(0x1000E, b"\xe4\x1f"), Piece(0x1E000, b"\x07\0"))
        image, notes = code_of_words(Image("pump.hex", (Piece(0x800, b"\x84\x31"), *more)))
        self.assertEqual([piece.address for piece in image.pieces], [0x800])
        for note, name in zip(notes, ("user ids", "configuration words", "EEPROM"), strict=True):
            self.assertIn(name, note)

    def test_a_compiler_s_file_is_no_backup(self) -> None:
        """Its blank words are 3FFF, which would never compare equal to what is read; this tool's own have FFFF."""
        code = bytes.fromhex("8431 082c ff3f ff3f") * 20
        for data, status in ((code, 5), (code_of_words(Image("", (Piece(0x800, code),)))[0].pieces[0].data, 0)):
            image = Image("saved.hex", (Piece(0x800, data),))
            trial = run(WORDS, {"flash": image}, options=WriteOptions(as_it_was=True), start=False)
            self.assertEqual((trial.end.exit_code, trial.line.to_chip_count == 0), (status, status == 5))

    def test_any_damage_to_an_address_is_made_good_or_told(self) -> None:
        """Of requests to erase and write; everything else stays as it was."""
        image, full = sample_for(WORDS, 500), random.Random(7).randbytes(0x8000)
        full = bytes(byte & (0x3F if at % 2 else 0xFF) for at, byte in enumerate(full))
        end, told, green = 0x800 + 512, 0, 0
        for place in range(500, 620, 5):
            runner, trial = prepare(WORDS, {"flash": image}, (f"flip-to-chip={place}:04",))
            flash = trial.line.chip.flash
            flash[0x800:] = full[0x800:]
            trial.events.extend(runner.run())
            with self.subTest(place=place):
                if trial.end.exit_code:
                    told += 1
                    continue
                green += 1
                self.assertTrue(trial.holds(image))
                self.assertEqual(bytes(flash[end:]), full[end:])
        self.assertGreater(green, 0)


if __name__ == "__main__":
    unittest.main()
