"""Which parts a SAM3 or SAM4 may be by its CHIPID_CIDR (data sheets, "CHIPID": "ARCH: architecture identifier").

The flash controllers of SAM chips, as jobs for the routine that `sam-ba` runs: registers from the data sheets."""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections.abc import Callable
from typing import ClassVar

from ..chips.part import Part
from ..frozen import frozen
from ..spans import Span
from .sam_ba_ram import RamJob

_SERIES = {
    0x80: r"sam3u\dc?", 0x81: r"sam3u\de?", 0x83: r"sam3a\dc", 0x84: r"sam3x\dc", 0x85: r"sam3x\de",
    0x88: r"sam[34]s\d+a", 0x89: r"sam[34]s\d+b", 0x8A: r"sam[34]s\d+c", 0x93: r"sam3n\da?", 0x94: r"sam3n\db?",
    0x95: r"sam3n\dc?", 0x99: r"sam[34]sd\d+b?", 0x9A: r"sam[34]sd\d+c?",
}  # fmt: skip
"""The names of the parts with each."""
REVISION = 0x1F


def is_another(name: str, chip_id: int) -> bool:
    """Whether a chip id is that of parts that have other names. One whose architecture is not known is nobody's."""
    names = _SERIES.get(chip_id >> 20 & 0xFF)
    return names is not None and re.fullmatch(names, name) is None


Word = Callable[[int], int]
"""Reads a word of the chip."""


class Controller(ABC):
    """One kind of flash controller, and how its chips tell what they are."""

    cores: ClassVar[tuple[int, ...]]
    """CPUID, PARTNO."""

    @abstractmethod
    def size_told(self, part: Part, word: Word) -> tuple[int | None, tuple[tuple[str, str], ...]]:
        """The flash in bytes as the chip tells it, None if it does not; and what else was seen."""

    def chip_id(self, word: Word) -> int | None:
        """The chip's own number without its revision; None if it has none."""
        return None

    @abstractmethod
    def preparing(self, word: Word) -> tuple[RamJob, ...]:
        """What must be set before anything is written."""

    @abstractmethod
    def page_bytes(self, unit: int) -> int:
        """What is written at once, in flash with such erase units."""

    @abstractmethod
    def jobs(self, span: Span, unit: int, data_at: int) -> tuple[RamJob | None, RamJob]:
        """Erase the units that hold a span of whole pages, if that is a job of its own; and write it from RAM."""

    def booting(self) -> RamJob | None:
        """Make the chip start from flash, if that is an option of its own."""
        return None

    def unique_id(self, part: Part, word: Word) -> str:
        """Empty if it cannot be read by words."""
        return ""


_KEY = 0x5A << 24
_READY, _ERRORS = 1, 0xE
_WRITE_PAGE, _ERASE_AND_WRITE, _ERASE_PAGES, _SET_BIT = 0x01, 0x03, 0x07, 0x0B
_SIXTEEN_PAGES = 2
_NVPSIZ = {1: 8, 2: 16, 3: 32, 5: 64, 7: 128, 9: 256, 10: 512, 12: 1024, 14: 2048}
"""CHIPID, "Nonvolatile program memory size", in KiB."""


@frozen
class Eefc(Controller):
    """SAM3 and SAM4, "Enhanced embedded flash controller": FMR +0, FCR +4, FSR +8. `banks` are (first address,
    registers); pages have `page` bytes. SAM3 erases a page as it writes it, SAM4 sixteen pages before."""

    chip_id_at: int
    banks: tuple[tuple[int, int], ...]
    page: int
    erases_with_page: bool

    cores: ClassVar[tuple[int, ...]] = (0xC23, 0xC24)

    def size_told(self, part: Part, word: Word) -> tuple[int | None, tuple[tuple[str, str], ...]]:
        told = self.chip_id(word)
        kib = _NVPSIZ.get(told >> 8 & 0xF)
        size = None if kib is None else kib * 1024
        if size is not None and size == part.extra.get("told_bytes"):  # both banks, of which the record has one
            size = part.flash.size
        return size, (("chip id", f"{told:08X}"),)

    def chip_id(self, word: Word) -> int:
        return word(self.chip_id_at) & ~REVISION

    def preparing(self, word: Word) -> tuple[RamJob, ...]:
        """Six wait states, for any supply and clock."""
        return tuple(
            RamJob(count=1, command_at=at, command=6 << 8, ready_at=at + 8, ready_mask=_READY) for _, at in self.banks
        )

    def page_bytes(self, unit: int) -> int:
        return self.page

    def _bank(self, address: int) -> tuple[int, int]:
        return max(bank for bank in self.banks if bank[0] <= address)

    def jobs(self, span: Span, unit: int, data_at: int) -> tuple[RamJob | None, RamJob]:
        start, at = self._bank(span.start)
        first = (span.start - start) // self.page
        erased = span.aligned(unit, start)
        ways = {"command_at": at + 4, "ready_at": at + 8, "ready_mask": _READY, "error_mask": _ERRORS}
        command = _ERASE_AND_WRITE if self.erases_with_page else _WRITE_PAGE
        writing = RamJob(
            copies=1, source=data_at, target=span.start, page=self.page, count=span.size // self.page,
            command=_KEY | first << 8 | command, command_step=1 << 8, **ways,
        )  # fmt: skip
        if self.erases_with_page:
            return None, writing
        pages, begin = unit // self.page, (erased.start - start) // self.page
        erasing = RamJob(
            count=erased.size // unit, command=_KEY | (begin | _SIXTEEN_PAGES) << 8 | _ERASE_PAGES,
            command_step=pages << 8, **ways,
        )  # fmt: skip
        return erasing, writing

    def booting(self) -> RamJob | None:
        """GPNVM bit 1."""
        _, at = self.banks[0]
        return RamJob(
            count=1, command_at=at + 4, command=_KEY | 1 << 8 | _SET_BIT, ready_at=at + 8, ready_mask=_READY,
            error_mask=_ERRORS,
        )  # fmt: skip


_CMDEX = 0xA5 << 8


@frozen
class Nvmctrl(Controller):
    """SAM D2x, L2x, "NVMCTRL": CTRLA +0, CTRLB +4, PARAM +8, INTFLAG +14 (ready 0, error 1), ADDR +1C in half-words.
    Rows of four pages are erased."""

    base: int = 0x41004000

    cores: ClassVar[tuple[int, ...]] = (0xC60,)
    _SERIAL: ClassVar[tuple[int, ...]] = (0x0080A00C, 0x0080A040, 0x0080A044, 0x0080A048)

    def size_told(self, part: Part, word: Word) -> tuple[int | None, tuple[tuple[str, str], ...]]:
        param = word(self.base + 8)
        return (param & 0xFFFF) * (8 << (param >> 16 & 7)), (("device id", f"{word(0x41002018):08X}"),)

    def preparing(self, word: Word) -> tuple[RamJob, ...]:
        """Pages are written on command only, nothing is cached, and no old error is left."""
        control = word(self.base + 4) | 1 << 7 | 1 << 18
        ready = {"count": 1, "ready_at": self.base + 0x14, "ready_mask": 1}
        return (
            RamJob(command_at=self.base + 4, command=control, **ready),
            RamJob(command_at=self.base + 0x14, command=2, **ready),
        )

    def page_bytes(self, unit: int) -> int:
        """Four pages make a row."""
        return unit // 4

    def jobs(self, span: Span, unit: int, data_at: int) -> tuple[RamJob | None, RamJob]:
        ways = {
            "command_at": self.base, "width": 2, "ready_at": self.base + 0x14, "ready_mask": 1, "error_mask": 2,
            "address_at": self.base + 0x1C, "address_shift": 1,
        }  # fmt: skip
        erased, page = span.aligned(unit, 0), self.page_bytes(unit)
        erasing = RamJob(target=erased.start, page=unit, count=erased.size // unit, command=_CMDEX | 0x02, **ways)
        writing = RamJob(
            copies=1, source=data_at, target=span.start, page=page, count=span.size // page, command=_CMDEX | 0x04,
            **{**ways, "address_at": 0},
        )  # fmt: skip
        return erasing, writing

    def unique_id(self, part: Part, word: Word) -> str:
        return "".join(f"{word(at):08X}" for at in self._SERIAL)


@frozen
class Nvmctrl5x(Controller):
    """SAM D5x, E5x, "NVMCTRL": CTRLA +0, CTRLB +4, PARAM +8, INTFLAG +10 (errors 1 to 3) and STATUS +12 (ready 0)
    read as one word, ADDR +14. Blocks of 8 KiB are erased, pages of 512 bytes written."""

    base: int = 0x41004000

    cores: ClassVar[tuple[int, ...]] = (0xC24,)
    _SERIAL: ClassVar[tuple[int, ...]] = (0x008061FC, 0x00806010, 0x00806014, 0x00806018)
    _PAGE: ClassVar[int] = 512

    def size_told(self, part: Part, word: Word) -> tuple[int | None, tuple[tuple[str, str], ...]]:
        param = word(self.base + 8)
        return (param & 0xFFFF) * (8 << (param >> 16 & 7)), (("device id", f"{word(0x41002018):08X}"),)

    def preparing(self, word: Word) -> tuple[RamJob, ...]:
        """Pages are written on command only, nothing is cached, and no old error is left."""
        control = word(self.base) & 0xFFFF & ~0x30 | 0xC000
        ready = {"count": 1, "width": 2, "ready_at": self.base + 0x10, "ready_mask": 1 << 16}
        return (
            RamJob(command_at=self.base, command=control, **ready),
            RamJob(command_at=self.base + 0x10, command=0xE, **ready),
        )

    def page_bytes(self, unit: int) -> int:
        return self._PAGE

    def jobs(self, span: Span, unit: int, data_at: int) -> tuple[RamJob | None, RamJob]:
        ways = {
            "command_at": self.base + 4, "width": 2, "ready_at": self.base + 0x10, "ready_mask": 1 << 16,
            "error_mask": 0xE, "address_at": self.base + 0x14,
        }  # fmt: skip
        erased = span.aligned(unit, 0)
        erasing = RamJob(target=erased.start, page=unit, count=erased.size // unit, command=_CMDEX | 0x01, **ways)
        writing = RamJob(
            copies=1, source=data_at, target=span.start, page=self._PAGE, count=span.size // self._PAGE,
            command=_CMDEX | 0x03, **{**ways, "address_at": 0},
        )  # fmt: skip
        return erasing, writing

    def unique_id(self, part: Part, word: Word) -> str:
        return "".join(f"{word(at):08X}" for at in self._SERIAL)


def controller_of(part: Part) -> Controller:
    """By the part's record."""
    kind = part.extra["controller"]
    if kind == "nvmctrl":
        return Nvmctrl()
    if kind == "nvmctrl-5x":
        return Nvmctrl5x()
    banks = tuple((first, at) for first, at in part.extra["banks"])
    return Eefc(part.extra["chip_id_at"], banks, part.extra["page"], kind == "eefc-3")
