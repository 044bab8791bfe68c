"""Every kind of upload to chips that hold another program: bytes wrong in the image, bytes changed beside it.

What is beside is all that the erase units named by the image do not hold; where a bootloader can only erase
everything, or shows nothing of what it erases, nothing is beside.

`python -m benchmarks.beside [DIALECT …]`
"""

from __future__ import annotations

import random
import sys
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from typing import Any

from greenstep.bench.boards import BOARDS as STANDS
from greenstep.bench.families import doorstep
from greenstep.bench.trial import Trial, prepare, sample_for
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.chips.part import Memory, Part
from greenstep.core.dialects.registry import find_dialect
from greenstep.core.dialects.spec import Erasing
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import Keep, WriteOptions
from tests.core.situations import BOARDS_OF

from .seeded import on_all_processors

BOARDS = BOARDS_OF
"""The bench boards that stand for each dialect: where its chips differ, several."""
_FILLED = 48 * 1024
_BYTES = 2300
_KEPT = 40
_LOADERS_OWN = {"pic-an851": 1}
"""Bytes at the end of the EEPROM by which the loader is told to stay or to run the program."""


@dataclass(frozen=True)
class Row:
    """How one kind of upload went on one board."""

    dialect: str
    board: str
    kind: str
    exit_code: int
    wrong: int
    beside: int
    said: str = ""

    @property
    def bad(self) -> bool:
        return bool(self.exit_code or self.wrong or self.beside)


class Bench:
    """A board with another program in all of its flash, from one upload to the next."""

    def __init__(self, dialect: str, board: str, **options: Any) -> None:
        self.dialect = find_dialect(dialect)
        self.board = board
        self.stand = STANDS[board]
        self.options = options
        chip = self._chip(prepare(board)[1])
        kind = getattr(chip, "kind", None)
        loader = getattr(kind, "loader", getattr(kind, "loader_bytes", 0))
        low, room = (loader[0], loader[1] - loader[0]) if isinstance(loader, tuple) else (0, loader)
        self.part = self._part(room, bool(room) and isinstance(loader, tuple) and not low)
        whole = self.dialect.spec.shows_sums_only  # then nothing is beside the image, and no image would be whole
        self.flash = bytes(chip.flash) if whole else filled(bytes(chip.flash), self.memory, chip.base)
        self.eeprom_before = random.Random(5).randbytes(len(getattr(chip, "eeprom", b"")))
        self.eeprom = self.eeprom_before
        self.base = chip.base
        self.runner: Any = None

    def _part(self, room: int, at_bottom: bool) -> Part:
        choice = Catalogue.load().find(self.stand.chip)
        part = (choice.speaking(self.stand.dialect) if self.stand.dialect else choice).first
        top, bottom = (0, room) if at_bottom else (room, 0)
        return part.with_memory(replace(part.flash, reserved_top=top, reserved_bottom=bottom))

    @property
    def memory(self) -> Memory:
        return self.part.flash

    @property
    def seal(self) -> int | None:
        """Where a loader keeps a seal of what was uploaded, in a unit of its own."""
        kind = doorstep.KINDS.get(self.stand.name.removeprefix("doorstep-"))
        return kind.seal if kind is not None and self.dialect.name == "doorstep" else None

    @staticmethod
    def _chip(trial: Trial) -> Any:
        return trial.line.chip

    def run(self, images: dict[str, Image] | None = None, **options: Any) -> Trial:
        """One run on the chip as it is now; what it then holds is what the next one meets."""
        runner, trial = prepare(self.board, images, **{**self.options, **options})
        chip = self._chip(trial)
        chip.flash[:] = self.flash[: len(chip.flash)]
        if self.eeprom:
            chip.eeprom[:] = self.eeprom
        trial.events.extend(runner.run())
        self.runner = runner
        self.flash = bytes(chip.flash)
        self.eeprom = bytes(getattr(chip, "eeprom", b""))
        return trial

    def write_options(self, **changes: Any) -> WriteOptions:
        return replace(prepare(self.board)[0].job.options, **changes)

    # --- judging

    def named(self, pieces: Iterable[Piece]) -> set[tuple[int, int]]:
        """(offset, end) of the erase units that hold any of the pieces."""
        if self.dialect.spec.erasing is Erasing.ALL_AT_ONCE or not self.dialect.spec.reads:
            return {(0, len(self.flash))}
        units = [unit for p in pieces for unit in self.memory.units_touched(p.address, len(p.data))]
        return {(unit.address - self.base, unit.end - self.base) for unit in units}

    def beside(self, trial: Trial, pieces: Iterable[Piece], before: bytes) -> int:
        """How many bytes changed outside the erase units of the pieces."""
        now = bytes(trial.line.chip.flash)
        aside = bytearray(before)
        for low, high in self.named(pieces):
            aside[low:high] = now[low:high]
        if self.seal is not None:
            aside[self.seal : self.seal + 8] = now[self.seal : self.seal + 8]
        return differing(now, bytes(aside))

    def beside_eeprom(self, pieces: Iterable[Piece]) -> int:
        """How many bytes of the EEPROM changed outside the pieces, and outside what is the loader's own."""
        aside = bytearray(self.eeprom_before)
        for piece in pieces:
            aside[piece.address : piece.end] = self.eeprom[piece.address : piece.end]
        counted = len(aside) - _LOADERS_OWN.get(self.dialect.name, 0)
        return differing(bytes(aside[:counted]), self.eeprom[:counted])

    def judged(self, kind: str, trial: Trial, pieces: Iterable[Piece], before: bytes) -> Row:
        """What of the pieces is wrong, and what changed outside their erase units."""
        pieces = tuple(pieces)
        # a seal is over what stands in the gaps, too
        shown = [piece for piece in pieces if piece.address != self.seal]
        wrong = sum(differing(self.flash[p.address - self.base : p.end - self.base], p.data) for p in shown)
        beside = self.beside(trial, pieces, before) + self.beside_eeprom(())
        said = trial.findings[0].cause if trial.findings else ""
        return Row(self.dialect.name, self.board, kind, trial.end.exit_code, wrong, beside, said)


def filled(flash: bytes, memory: Memory, base: int) -> bytes:
    """The flash with made-up bytes wherever it was blank, but for the bootloader's room."""
    low, high = memory.usable_start - base, min(memory.usable_end - base, memory.usable_start - base + _FILLED)
    noise = random.Random(7).randbytes(high - low)
    content = bytearray(flash)
    for at in range(low, high):
        if content[at] == memory.erased:
            content[at] = noise[at - low]
    return bytes(content)


def differing(one: bytes, other: bytes) -> int:
    return sum(a != b for a, b in zip(one, other, strict=True)) if one != other else 0


def held(bench: Bench, image: Image) -> tuple[Piece, ...]:
    return bench.stand.held(image).pieces


def image_of(bench: Bench, seed: int = 3) -> Image:
    return sample_for(bench.board, _BYTES, seed)


# --- kinds


def first(bench: Bench) -> Row:
    before, image = bench.flash, image_of(bench)
    return bench.judged("first", bench.run({"flash": image}), held(bench, image), before)


def again(bench: Bench) -> Row:
    image = image_of(bench)
    bench.run({"flash": image})
    before = bench.flash
    return bench.judged("same again", bench.run({"flash": image}), held(bench, image), before)


def page_changed(bench: Bench) -> Row:
    image = image_of(bench)
    bench.run({"flash": image})
    content = bytearray(bench.flash)
    piece = held(bench, image)[-1 if "esp" in bench.dialect.name else 0]
    content[piece.address - bench.base + len(piece.data) // 2] ^= 0x21
    bench.flash = bytes(content)
    return bench.judged("page changed", bench.run({"flash": image}), held(bench, image), bytes(content))


def _with_more(bench: Bench, image: Image, gap: int) -> Image:
    """The image and 500 bytes behind its code, after a gap; what it has at the end of the flash stays there."""
    code = [p for p in image.pieces if p.address < bench.memory.end]
    last = [p for p in code if len(p.data) >= 500 or len(code) == 1][-1]
    others = [p for p in code if p is not last]
    more = random.Random(9).randbytes(500)
    behind = (last, Piece((last.end + gap + 3) // 4 * 4, more)) if gap else (Piece(last.address, last.data + more),)
    pieces = tuple(sorted((*others, *behind), key=lambda piece: piece.address))
    return Image(image.name, pieces, image.start, image.format)


def appended(bench: Bench) -> Row:
    image = image_of(bench)
    bench.run({"flash": image})
    before, longer = bench.flash, _with_more(bench, image, 0)
    return bench.judged("appended", bench.run({"flash": longer}), held(bench, longer), before)


def with_gaps(bench: Bench) -> Row:
    before, image = bench.flash, _with_more(bench, image_of(bench), 6000)
    pieces = (*held(bench, image), *(p for p in image.pieces[1:] if p.address < bench.memory.end))
    return bench.judged("with gaps", bench.run({"flash": image}), pieces, before)


def after_a_cut(bench: Bench) -> Row:
    before, image = bench.flash, image_of(bench)
    count = Bench(bench.dialect.name, bench.board).run({"flash": image}).line.to_chip_count
    bench.run({"flash": image}, faults=(f"cut-after={count * 2 // 5}",))
    return bench.judged("after a cut", bench.run({"flash": image}), held(bench, image), before)


def kept(bench: Bench) -> Row:
    before, image = bench.flash, image_of(bench)
    pieces = held(bench, image)
    last = max(
        (p for p in pieces if p.address < min(bench.memory.usable_end - 8, bench.seal or 1 << 32)),
        key=lambda p: p.end,
    )
    keep = Keep(last.end + 3, _KEPT)
    there = Piece(keep.address, before[keep.address - bench.base : keep.span.end - bench.base])
    trial = bench.run({"flash": image}, options=bench.write_options(keep=(keep,)))
    return bench.judged("kept", trial, (*pieces, there), before)


def erase_region(bench: Bench) -> Row:
    before = bench.flash
    unit = bench.memory.units_touched(bench.memory.usable_start + 0x2000, 1)[0]
    trial = bench.run(purpose="erase", region=("flash", unit.address, unit.size))
    return bench.judged(
        "erase of a region", trial, (Piece(unit.address, bytes([bench.memory.erased]) * unit.size),), before
    )


def restored(bench: Bench) -> Row:
    """Backed up, another program uploaded, and the backup put back."""
    before = bench.flash
    low = bench.memory.usable_start + (
        0x1000 if "shadow" in bench.part.extra else 0
    )  # what a ROM lies over is missing
    size = min(4096, bench.memory.usable_end - low)
    saved = bench.run(purpose="backup", region=("flash", low, size))
    if saved.end.exit_code:
        return bench.judged("backup, restore", saved, (), before)
    backup = Image("backup", bench.runner.outcome.backup)
    bench.run({"flash": image_of(bench, 4)})
    between = bench.flash
    trial = bench.run({"flash": backup}, options=bench.write_options(as_it_was=True), start=False)
    there = Piece(low, before[low - bench.base : low - bench.base + size])
    return bench.judged("backup, restore", trial, (there,), between)


def eeprom_with_gaps(bench: Bench) -> Row:
    """Pieces at uneven places; then the same image over one that differs in two of them."""
    before, size = bench.flash, len(bench.eeprom)
    some = random.Random(11)
    pieces = tuple(Piece(at, some.randbytes(31)) for at in (5, size // 2 - 3, size - 40))
    for changed in ((), (6, size - 20)):
        content = bytearray(bench.eeprom)
        for at in changed:
            content[at] ^= 0x21
        bench.eeprom = bytes(content)
        trial = bench.run({"eeprom": Image("calibration", pieces)})
    return _judged_eeprom(bench, "EEPROM with gaps", trial, pieces, before)


def eeprom_restored(bench: Bench) -> Row:
    """Some of it backed up, changed, and put back."""
    before, low, size = bench.flash, 9, 70
    saved = bench.run(purpose="backup", region=("eeprom", low, size))
    if saved.end.exit_code:
        return bench.judged("EEPROM backup, restore", saved, (), before)
    backup = Image("backup", bench.runner.outcome.backup)
    bench.eeprom = bytes(low) + bytes(size) + bench.eeprom[low + size :]
    bench.eeprom_before = bytes(low) + bench.eeprom_before[low:]
    trial = bench.run({"eeprom": backup}, options=bench.write_options(as_it_was=True), start=False)
    pieces = (Piece(low, bench.eeprom_before[low : low + size]),)
    return _judged_eeprom(bench, "EEPROM backup, restore", trial, pieces, before)


def _judged_eeprom(bench: Bench, kind: str, trial: Trial, pieces: tuple[Piece, ...], flash: bytes) -> Row:
    """What is wrong in the pieces, what changed beside them, and in the flash."""
    wrong = sum(differing(bench.eeprom[p.address : p.end], p.data) for p in pieces)
    beside = bench.beside_eeprom(pieces) + differing(flash, bench.flash)
    said = trial.findings[0].cause if trial.findings else ""
    return Row(bench.dialect.name, bench.board, kind, trial.end.exit_code, wrong, beside, said)


KINDS: tuple[Callable[[Bench], Row], ...] = (
    first, again, page_changed, appended, with_gaps, after_a_cut, kept, erase_region, restored,
    eeprom_with_gaps, eeprom_restored,
)  # fmt: skip
_READING = (kept, erase_region, restored)
_OF_PIECES = (appended, with_gaps)
_WHOLE = ("PSoC rows", "DFU package")
"""Files that have the sum or hash of all that is in them; into RAM, gaps are filled."""
_OF_EEPROM = (eeprom_with_gaps, eeprom_restored)


def one(dialect: str, board: str, number: int) -> Row:
    return KINDS[number](Bench(dialect, board))


def cases(dialects: Iterable[str]) -> list[tuple[str, str, int]]:
    """(dialect, board, which kind), without what a dialect cannot do."""
    rows = []
    for dialect in dialects:
        spec = find_dialect(dialect).spec
        if spec.shows_sums_only:  # one image whole, and nothing beside it
            rows += [(dialect, board, KINDS.index(kind)) for board in BOARDS[dialect] for kind in (first, again)]
            continue
        shows = spec.reads and not spec.into_ram and not any(setting.name == "old" for setting in spec.settings)
        for board in BOARDS[dialect]:
            wanted = [kind for kind in KINDS if shows or kind not in _READING]
            if spec.into_ram or sample_for(board, _BYTES).format in _WHOLE:
                wanted = [kind for kind in wanted if kind not in _OF_PIECES]
            if not Bench(dialect, board).eeprom:
                wanted = [kind for kind in wanted if kind not in _OF_EEPROM]
            rows += [(dialect, board, KINDS.index(kind)) for kind in wanted]
    return rows


def main() -> int:
    rows = on_all_processors(one, cases(sys.argv[1:] or list(BOARDS)), 1)
    print(f"{'dialect':<11} {'board':<12} {'kind':<18} {'wrong in it':>11} {'beside it':>10}")
    for row in rows:
        ended = "" if not row.exit_code else f"  exit {row.exit_code}: {row.said}"
        print(f"{row.dialect:<11} {row.board:<12} {row.kind:<18} {row.wrong:11,} {row.beside:10,}{ended}")
    bad = sum(row.bad for row in rows)
    print(f"{len(rows)} uploads, {bad} with a byte that is wrong or changed beside the image")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
