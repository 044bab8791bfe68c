"""What holds for every dialect: the chip that was declared is compared with the one that is found, what nothing tells
is not taken for known, and a resident bootloader is found by what only a bootloader has."""

from __future__ import annotations

import unittest
from collections.abc import Iterator
from dataclasses import replace
from typing import Any

from greenstep.bench.boards import BenchBoard
from greenstep.bench.trial import Trial, prepare, sample_for
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.chips.part import Part
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import WriteOptions

from ..sample import KINDS, some
from .observed import dialect_of

BOARDS: dict[str, BenchBoard] = KINDS
TELL_NOTHING = {
    "efm8-an945", "mspm0-slau887", "nrf5-dfu", "pic-an1310", "pic-an851", "pic32-an1388", "propeller-1", "propeller-2",
    "psoc-an60317", "rp2350-uart", "smp", "stm8-um0560", "ti-tiva", "xmodem",
}  # fmt: skip
"""Dialects whose loaders say nothing that stands in the records of their parts; what a PSoC says is compared with the
file."""
SIZE_IS_TOLD = {"nxp-mcu", "ra-r01an5372", "sam-ba", "nuvoton-isp"}
"""Their flash may be smaller than the record's, which has the largest of its name, and never larger."""
_JUMPS = bytes.fromhex("00C0 FFCF 0C94 0000 00EF 7EF0 12D0 00E0")
"""Words that are jumps to an AVR, a PIC18 and a Cortex-M."""
_WAY_BACK = 16
"""Some loaders need a few bytes below them for a jump."""


def content(trial: Trial) -> bytes:
    return bytes(trial.line.chip.flash)


def tried(board: str, image: Image | None = None, **options: Any) -> tuple[Trial, bytes]:
    """An upload, and what the flash held before it."""
    silicon = options.pop("silicon", {})
    runner, trial = prepare(board, {"flash": image or sample_for(board, 900)}, **options)
    chip = trial.line.chip
    for name, value in silicon.items():
        setattr(chip, name, value)
    if any(setting.name == "old" for setting in runner.job.dialect.spec.settings):
        chip.flash[:] = b"\xff" * len(chip.flash)  # so that its password is the one of a blank chip
    before = content(trial)
    trial.events.extend(runner.run())
    return trial, before


def others(board: str) -> Iterator[Part]:
    """Parts of the same dialect that the chip's own answers tell from the board's, and that the image would fit."""
    catalogue, dialect = Catalogue.load(), dialect_of(board).name
    choice = catalogue.find(BOARDS[board].chip)
    own, numbers = choice.first, {number for part in choice.parts for number in (0, part.ident, *part.clones)}
    for part in catalogue.of_dialect(dialect):
        if part.flash.start != own.flash.start:
            continue
        number = bool(own.ident) and part.ident not in numbers
        device = "device" in part.extra and part.extra["device"] != own.extra.get("device")
        size = dialect in SIZE_IS_TOLD and 2048 < part.flash.size < own.flash.size
        if size or (part.flash.size >= own.flash.size and (number or device)):
            yield part


class Numbers(unittest.TestCase):
    def test_another_part_than_the_declared_one_is_refused(self) -> None:
        """Before anything is changed, and whenever the number comes: at once, after a password, in a property."""
        compared: set[str] = set()
        for board in BOARDS:
            apart = list(others(board))
            for part in (apart[0], apart[len(apart) // 2]) if apart else ():
                with self.subTest(board, part=part.name):
                    choice = Catalogue.load().find(part.name).speaking(dialect_of(board).name)
                    trial, before = tried(board, choice=choice, options=WriteOptions(even_if=frozenset({"vectors"})))
                    self.assertEqual((trial.end.exit_code != 0, content(trial) == before), (True, True))
                    if trial.findings[0].key == "other-chip":
                        compared.add(dialect_of(board).name)
        every = {dialect_of(board).name for board in BOARDS}
        self.assertEqual(every - compared, TELL_NOTHING)

    def test_where_several_parts_may_be_meant_one_is_asked_for(self) -> None:
        """Declared by the dialect alone: the part is known by its number, all that have it are written alike, or
        nothing is changed before one is named."""
        asked = 0
        for board in BOARDS:
            choice = Catalogue.load().find(dialect_of(board).name)
            if len(choice.parts) < 2:
                continue
            with self.subTest(board):
                trial, before = tried(board, choice=choice)
                if trial.end.exit_code:
                    self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "which-chip"))
                    self.assertEqual(content(trial), before)
                    asked += 1
                    continue
                part = choice.by_ident(int(str(trial.step("chip").figures["ident"]), 16))
                assert part is not None
                alike = [one for one in choice.parts if one.ident == part.ident]
                self.assertEqual({one.flash.layout[0][1] for one in alike}, {part.flash.layout[0][1]})
                self.assertTrue(trial.holds(sample_for(board, 900)))
        self.assertGreater(asked, 25)


class Sizes(unittest.TestCase):
    def test_an_unknown_size_is_not_the_largest(self) -> None:
        """It is not shown as one; and where units, locks or the wrong end of the flash depend on it, nothing is
        written before somebody says it."""
        refused: set[str] = set()
        for board, stand in BOARDS.items():
            part = Catalogue.load().find(stand.chip).first
            if part.size_known:
                continue
            with self.subTest(board):
                trial, before = tried(board, silicon={"tells_size": False})
                if trial.end.exit_code:
                    self.assertEqual((trial.findings[0].key, content(trial)), ("flash-size-unknown", before))
                    refused.add(board)
                    continue
                self.assertTrue(trial.holds(sample_for(board, 900)))
                self.assertIn("an unknown size of flash", trial.step("chip").evidence)
                self.assertNotIn("flash_bytes", trial.step("chip").figures)
        self.assertEqual(refused, {"stm32g0b1", "cc2538"})

    def test_and_may_be_said(self) -> None:
        by_name: dict[str, Any] = {"choice": Catalogue.load().find("STM32G0B1RE")}
        for board, settings, more in (
            ("stm32g0b1", {}, by_name),
            ("cc2538", {"flash-size": "512K"}, {}),
        ):
            with self.subTest(board):
                options = replace(prepare(board)[0].job.options, settings=settings)
                trial, _ = tried(board, silicon={"tells_size": False}, options=options, **more)
                self.assertEqual(
                    (trial.end.exit_code, trial.holds(sample_for(board, 900))), (0, True), trial.findings
                )

    def test_all_of_it_is_neither_saved_nor_erased(self) -> None:
        """Where it ends is not known; behind the end of an ESP's flash is its beginning."""
        for board, purpose in (
            ("stm32f072", "backup"),
            ("esp32", "backup"),
            ("stm32f072", "erase"),
            ("esp32", "erase"),
        ):
            for size in (None, 0x1000):
                with self.subTest(board, purpose=purpose, size=size):
                    runner, trial = prepare(board, purpose=purpose, region=("flash", None, size))  # type: ignore[arg-type]
                    trial.line.chip.tells_size = False
                    before = content(trial)
                    trial.events.extend(runner.run())
                    if size is not None:
                        self.assertEqual(trial.end.exit_code, 0, trial.findings)
                        continue
                    self.assertEqual((trial.findings[0].key, content(trial)), ("flash-size-unknown", before))


class Loaders(unittest.TestCase):
    """Boards whose bootloader lies in the program's flash."""

    def at_the_top(self) -> Iterator[tuple[str, Image, int]]:
        """(board, a program that ends right below the bootloader, where in the flash that is)."""
        found = [
            (board, part)
            for board, part in parts()
            if part.flash.reserved_top and part.core != "8051" and not board.startswith("doorstep")
        ]
        for board, part in some(found, 10):
            image, held = sample_for(board, 900), content(prepare(board)[1])
            border = len(held) - len(held[len(held) - 4 * part.flash.reserved_top :].lstrip(b"\xff"))
            yield board, with_piece(image, part.flash.start + border - 256 - _WAY_BACK), border

    def over(self, board: str, image: Image, border: int, old: bytes, **options: Any) -> Trial:
        """An upload over a program that ends with `old`."""
        runner, trial = prepare(board, {"flash": image}, start=False, **options)
        trial.line.chip.flash[border - len(old) : border] = old
        trial.events.extend(runner.run())
        return trial

    def test_an_image_that_reaches_into_it_is_refused(self) -> None:
        refused = 0
        for board, part in parts():
            flash = part.flash
            border = flash.usable_end if flash.reserved_top else flash.usable_start
            if border in (flash.start, flash.end):
                continue
            with self.subTest(board):
                image = replace(sample_for(board, 900), pieces=(Piece(border - 128, bytes(range(256))),))
                trial, before = tried(board, image, options=sure(board))
                self.assertEqual((trial.end.exit_code, content(trial) == before), (5, True))
                self.assertIn(trial.findings[0].key, ("hits-bootloader", "does-not-fit"))
                refused += 1
        self.assertGreater(refused, 15)

    def test_words_that_look_like_jumps_are_no_bootloader(self) -> None:
        for board, image, border in self.at_the_top():
            with self.subTest(board):
                trial = self.over(board, image, border, _JUMPS * 128)
                self.assertEqual(trial.end.exit_code, 0, trial.findings)
                self.assertIn(bytes(range(256)), content(trial)[:border])

    def test_the_size_that_was_said_decides(self) -> None:
        """Whatever lies below it looks like: even a copy of the bootloader itself."""
        found = 0
        for board, image, border in self.at_the_top():
            with self.subTest(board):
                loader = content(prepare(board)[1])[border:]
                found += self.over(board, image, border, loader).end.exit_code == 5
                settings = self.over(board, image, border, loader, bootloader_bytes=len(loader))
                self.assertEqual(settings.end.exit_code, 0, settings.findings)
                self.assertIn(bytes(range(256)), content(settings)[:border])
                larger = self.over(board, image, border, loader, bootloader_bytes=2 * len(loader))
                self.assertEqual((larger.end.exit_code, larger.findings[0].key), (5, "hits-bootloader"))
        self.assertGreater(found, 3, "those of an AVR are looked for")


def parts() -> Iterator[tuple[str, Part]]:
    """Each board with its part's record."""
    for board, stand in BOARDS.items():
        choice = Catalogue.load().find(stand.chip)
        yield board, (choice.speaking(stand.dialect) if stand.dialect else choice).first


def with_piece(image: Image, start: int) -> Image:
    """An image with 256 more bytes."""
    return replace(image, pieces=(*image.pieces, Piece(start, bytes(range(256)))))


def sure(board: str) -> WriteOptions:
    """Where a part of a program is no program, that is not what it is refused for."""
    return replace(prepare(board)[0].job.options, even_if=frozenset({"vectors"}))


if __name__ == "__main__":
    unittest.main()
