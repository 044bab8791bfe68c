"""What every dialect must do alike, on each of its simulated boards, and what a board's settings change."""

from __future__ import annotations

import unittest
from typing import Any

from greenstep.bench.boards import BOARDS
from greenstep.bench.trial import prepare, run, sample_for
from greenstep.core.dialects.registry import dialect_names, find_dialect
from greenstep.core.dialects.settings import read_settings
from greenstep.core.errors import UsageFault
from greenstep.core.image import Image, Piece
from greenstep.core.link import LineSettings

from ..sample import KINDS, boards, some
from ..scripted import ScriptedLink
from .observed import dialect_of, notes, shows_bytes, strict

SIZES = (700, 1800)
_XMODEM = {"smoke-fan", "xmodem-sum", "xmodem-crc", "ymodem", "ymodem-once", "ymodem-twice", "efr32", "efm32", "w600"}
SHOW_A_PART = {"esp8266", "lpc812", "lpc845", "lpc1114", "lpc1769", "m480", *_XMODEM}
"""Boards whose loader hides some of the image, shows it too slowly to read it all unasked, or shows no more than that
it was sent something: never green."""


class OnEveryBoard(unittest.TestCase):
    def test_uploads_are_green_and_keep_to_the_document(self) -> None:
        for board, stand in KINDS.items():
            for size in SIZES if board in boards(0) else SIZES[:1]:
                with self.subTest(board, size=size):
                    image = sample_for(board, size)
                    trial = run(
                        board, {"flash": image}, expect=stand.texts[1].removesuffix(" ready"), turnaround_s=0.004
                    )
                    self.assertEqual(
                        (trial.end.exit_code, trial.end.green), (0, board not in SHOW_A_PART), trial.findings
                    )
                    self.assertTrue(trial.holds(image))
                    self.assertEqual(strict(trial), [])

    def test_answers_without_delay_lose_nothing(self) -> None:
        """As on the UART of a single-board computer: what is sent at once meets a chip that still programs. (One
        receiver is first offered blocks that it does not take.)"""
        for board in boards(1).keys() - {"xmodem-crc"}:
            with self.subTest(board):
                trial = run(board, {"flash": sample_for(board, 2300)}, turnaround_s=0.0)
                self.assertEqual(trial.end.exit_code, 0, trial.findings)
                self.assertNotIn("repeated", notes(trial))
                self.assertNotIn("damaged", notes(trial))

    def test_a_rate_that_the_loader_has_not_is_told_and_left(self) -> None:
        for board in ("msp430g2553", "rp2350"):
            with self.subTest(board):
                image = sample_for(board, 900)
                line = LineSettings(115200, dialect_of(board).frame)
                trial = run(board, {"flash": image}, settings=line)
                self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), trial.findings)
                told = "its loader answers at one rate" in notes(trial)
                self.assertTrue(told)

    def test_a_second_upload_over_the_first(self) -> None:
        for board in boards(2):
            with self.subTest(board):
                runner, trial = prepare(board, {"flash": sample_for(board, 1800, seed=8)})
                for piece in BOARDS[board].held(sample_for(board, 2400, seed=7)).pieces:
                    at = piece.address - trial.line.chip.base
                    trial.line.chip.flash[at : at + len(piece.data)] = piece.data
                trial.events.extend(runner.run())
                self.assertEqual(trial.end.exit_code, 0, trial.findings)
                self.assertTrue(trial.holds(sample_for(board, 1800, seed=8)))

    def test_verify_says_equal_and_says_different(self) -> None:
        for board in boards(3):
            if not shows_bytes(board) or BOARDS[board].chip == "esp8266":
                continue
            with self.subTest(board):
                image = sample_for(board, 3000)
                for wrong, status in ((False, 0), (True, 7)):
                    runner, trial = prepare(board, {"flash": image}, purpose="verify")
                    for piece in BOARDS[board].held(image).pieces:
                        at = piece.address - trial.line.chip.base
                        trial.line.chip.flash[at : at + len(piece.data)] = piece.data
                    place = image.pieces[-1].address if board.startswith("esp") else image.pieces[0].address
                    trial.line.chip.flash[place - trial.line.chip.base + 1500] ^= 1 if wrong else 0
                    before = bytes(trial.line.chip.flash)
                    trial.events.extend(runner.run())
                    self.assertEqual(trial.end.exit_code, status, trial.findings)
                    self.assertEqual(bytes(trial.line.chip.flash), before)
                    self.assertEqual(strict(trial), [])

    def test_backup_reads_what_is_there(self) -> None:
        for board in boards(4):
            if not shows_bytes(board) or "esp" in BOARDS[board].chip:
                continue
            with self.subTest(board):
                runner, trial = prepare(board, purpose="backup", region=("flash", trial_base(board) + 0x400, 0x321))
                trial.events.extend(runner.run())
                self.assertEqual(trial.end.exit_code, 0, trial.findings)
                self.assertEqual(runner.outcome.backup[0].data, bytes(trial.line.chip.flash[0x400 : 0x400 + 0x321]))

    def test_backup_of_an_esp(self) -> None:
        for board in ("esp8266", "esp32", "esp32s3"):
            with self.subTest(board):
                runner, trial = prepare(board, purpose="backup", region=("flash", 0x1000, 200))
                trial.line.chip.flash[0x1000:0x10C8] = bytes(range(200))
                trial.events.extend(runner.run())
                self.assertEqual((trial.end.exit_code, runner.outcome.backup[0].data), (0, bytes(range(200))))

    def test_erase_leaves_blank_room_and_the_loader_alone(self) -> None:
        for board in some(KINDS, 40):
            kind = getattr(trial_chip(board), "kind", None)
            if not shows_bytes(board) or getattr(kind, "flash_bytes", 0) > 40_000:
                continue
            with self.subTest(board):
                room = getattr(kind, "loader_bytes", None)
                runner, trial = prepare(board, purpose="erase", bootloader_bytes=room)
                trial.events.extend(runner.run())
                self.assertEqual(trial.end.exit_code, 0, trial.findings)
                self.assertEqual(strict(trial), [])
                part = runner.outcome.part
                assert part is not None
                low, high = part.flash.usable_start - part.flash.start, part.flash.usable_end - part.flash.start
                blank = getattr(kind, "blank", bytes([part.flash.erased]))  # of a PIC16 words of 14 bits
                self.assertEqual(set(trial.line.chip.flash[low:high]), set(blank))

    def test_erase_of_a_region_of_an_esp(self) -> None:
        for board in ("esp8266", "esp32"):
            runner, trial = prepare(board, purpose="erase", region=("flash", 0xF000, 0x3000))
            trial.line.chip.flash[0xE000:0x14000] = b"\x00" * 0x6000
            trial.events.extend(runner.run())
            self.assertEqual(trial.end.exit_code, 0, trial.findings)
            flash = trial.line.chip.flash
            self.assertEqual(
                (set(flash[0xF000:0x12000]), set(flash[0xE000:0xF000]), set(flash[0x12000:0x14000])),
                ({255}, {0}, {0}),
            )

    def test_start_alone(self) -> None:
        for board in KINDS:
            with self.subTest(board):
                text = BOARDS[board].texts[0].removesuffix(" ready")
                trial = run(board, purpose="start", expect=text)
                self.assertEqual(trial.end.exit_code, 0, trial.findings)
                self.assertIn(f'heard "{text}', trial.step("start").evidence)

    def test_an_eeprom_where_there_is_one(self) -> None:
        settings = Image("settings.bin", (Piece(3, bytes(range(1, 100))),))
        for board in ("atmega2560", "atmega1280", "atmega32u4", "at90usb1286", "pic18f4520", "pic18f46k22"):
            with self.subTest(board):
                trial = run(board, {"eeprom": settings}, start=False)
                self.assertEqual(trial.end.exit_code, 0, trial.findings)
                self.assertTrue(trial.holds(settings, "eeprom"))

    def test_each_is_asked_in_an_order_and_none_shares_its_turn(self) -> None:
        turns = [find_dialect(name).spec.asking.order for name in dialect_names()]
        self.assertEqual(len(set(turns)), len(turns))
        self.assertEqual(min(turns), find_dialect("xmodem").spec.asking.order)


def trial_chip(board: str) -> Any:
    return BOARDS[board].build().chip


def trial_base(board: str) -> int:
    return int(trial_chip(board).base)


class OwnSettings(unittest.TestCase):
    def test_values_are_read_and_checked(self) -> None:
        lpc, xmodem, stm32 = (find_dialect(name) for name in ("lpc-isp", "xmodem", "stm32-rom"))
        self.assertEqual(read_settings(lpc, [("crystal-khz", "14746")]), {"crystal-khz": 14746})
        self.assertEqual(read_settings(lpc, [("crystal-khz", 16000)]), {"crystal-khz": 16000})
        self.assertEqual(
            read_settings(xmodem, [("pad", "0xFF"), ("block", "ymodem")]), {"pad": 255, "block": "ymodem"}
        )
        self.assertEqual(lpc(ScriptedLink()).setting("crystal-khz"), 12000)
        self.assertEqual(xmodem(ScriptedLink(), {"pad": 0}).setting("pad"), 0)
        for dialect, pairs, said in (
            (stm32, [("crystal-khz", 1)], "it has unit"), (lpc, [("crystal", 1)], "it has crystal-khz"),
            (lpc, [("crystal-khz", True)], "whole number"), (lpc, [("crystal-khz", "twelve")], "number"),
            (xmodem, [("block", 256)], "write auto, 128, 1024, ymodem"), (xmodem, [("opening", "u")], "a list of turns"),
        ):  # fmt: skip
            with self.subTest(pairs), self.assertRaises(UsageFault) as caught:
                read_settings(dialect, pairs)
            self.assertIn(said, " ".join(caught.exception.finding.attempts))

    def test_every_default_is_one_of_its_choices(self) -> None:
        for name in dialect_names():
            for setting in find_dialect(name).spec.settings:
                with self.subTest(name, setting=setting.name):
                    self.assertTrue(not setting.choices or setting.default in setting.choices)
                    self.assertTrue(setting.help)


if __name__ == "__main__":
    unittest.main()
