"""Where images lie in a memory, as stretches of one kind: for a map in characters, and for a drawn one.

A stretch is the finest unit that both need: from here to there it is image 2, or kept, or the bootloader's, or free.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from ..chips.part import EraseUnit, Memory
from ..frozen import frozen
from ..plan.write_options import Keep
from . import Image
from .fit import without_blanks

Kind = Literal["image", "bootloader", "kept", "free"]


@frozen
class Stretch:
    """`number` counts the images from 0; -1 if it is no image. `why` says what kept bytes are kept for."""

    start: int
    end: int
    kind: Kind
    number: int = -1
    why: str = ""


@frozen
class FlashMap:
    """A memory from `start` to before `end`, cut into stretches without gaps; kept stretches may overlap images.
    `units` are its erase units, empty if no chip is known."""

    start: int
    end: int
    images: tuple[Image, ...]
    stretches: tuple[Stretch, ...]
    units: tuple[EraseUnit, ...]

    @property
    def size(self) -> int:
        return self.end - self.start

    def held(self, number: int) -> int:
        """Bytes of an image that lie inside."""
        return sum(s.end - s.start for s in self.stretches if s.kind == "image" and s.number == number)

    def total(self, kind: Kind) -> int:
        return sum(s.end - s.start for s in self.stretches if s.kind == kind)


def map_of(memory: Memory, images: Sequence[Image], keep: Sequence[Keep] = ()) -> FlashMap:
    """The map of a part's memory; anything of the images outside it is left out."""
    units = memory.units_touched(memory.start, memory.size)
    images = [without_blanks(image, memory) if image.covers(memory.start, memory.size) else image for image in images]
    return _mapped(memory.start, memory.end, images, keep, memory, tuple(units))


def map_of_images(images: Sequence[Image]) -> FlashMap:
    """The map of the images alone: from the lowest to the highest byte, widened to whole lines of 16."""
    low = min(image.lowest for image in images) & ~15
    high = -(-max(image.end for image in images) // 16) * 16
    return _mapped(low, high, images, (), None, ())


def _mapped(
    start: int,
    end: int,
    images: Sequence[Image],
    keep: Sequence[Keep],
    memory: Memory | None,
    units: tuple[EraseUnit, ...],
) -> FlashMap:
    found = []
    for number, image in enumerate(images):
        for piece in image.pieces:
            low, high = max(piece.address, start), min(piece.end, end)
            if low < high:
                found.append(Stretch(low, high, "image", number))
    free: list[Stretch] = []
    at = start
    for stretch in sorted(found, key=lambda one: one.start):
        if stretch.start > at:
            free.append(Stretch(at, stretch.start, "free"))
        at = max(at, stretch.end)
    if at < end:
        free.append(Stretch(at, end, "free"))
    taken = [Stretch(k.span.start, k.span.end, "kept", why=k.why) for k in keep]
    if memory is not None:
        taken.append(Stretch(memory.start, memory.usable_start, "bootloader"))
        taken.append(Stretch(memory.usable_end, memory.end, "bootloader"))
    for room in taken:
        free = [part for stretch in free for part in _without(stretch, room)]
    inside = [Stretch(max(s.start, start), min(s.end, end), s.kind, why=s.why) for s in taken]
    stretches = sorted([*found, *free, *(s for s in inside if s.start < s.end)], key=lambda s: (s.start, s.end))
    return FlashMap(start, end, tuple(images), tuple(stretches), units)


def _without(stretch: Stretch, room: Stretch) -> list[Stretch]:
    """The free space that remains when something else lies in it."""
    if room.end <= stretch.start or stretch.end <= room.start:
        return [stretch]
    sides = ((stretch.start, room.start), (room.end, stretch.end))
    return [Stretch(low, high, "free") for low, high in sides if low < high]


LETTERS = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
"""The letters for images on a map, in the order they were named."""
ROW_CELLS = 64
_MOST_ROWS = 16
_SMALLEST_CELL = 16


@frozen
class Cell:
    """One character of a map: what lies in it, and whether that fills it. `clash` is two images in one cell."""

    kind: Kind
    number: int
    full: bool
    clash: bool = False


@frozen
class Grid:
    """A map in rows of at most ROW_CELLS cells of `cell_bytes` each."""

    cell_bytes: int
    rows: tuple[tuple[int, tuple[Cell, ...]], ...]


def grid_of(drawn: FlashMap) -> Grid:
    """The map as characters: the cell size is the smallest power of two with which it takes at most sixteen rows."""
    cell = _SMALLEST_CELL
    while cell * ROW_CELLS * _MOST_ROWS < drawn.size:
        cell *= 2
    number = -(-drawn.size // cell)
    found: list[dict[tuple[Kind, int], int]] = [{} for _ in range(number)]
    for stretch in drawn.stretches:
        first, last = (stretch.start - drawn.start) // cell, (stretch.end - 1 - drawn.start) // cell
        for index in range(first, last + 1):
            low = drawn.start + index * cell
            held = min(stretch.end, low + cell) - max(stretch.start, low)
            key = (stretch.kind, stretch.number)
            found[index][key] = found[index].get(key, 0) + held
    cells = [_cell(inside, min(cell, drawn.size - index * cell)) for index, inside in enumerate(found)]
    rows = [(drawn.start + at * cell, tuple(cells[at : at + ROW_CELLS])) for at in range(0, len(cells), ROW_CELLS)]
    return Grid(cell, tuple(rows))


_WEIGHT: dict[Kind, int] = {"image": 3, "kept": 2, "bootloader": 1, "free": 0}


def _cell(inside: dict[tuple[Kind, int], int], size: int) -> Cell:
    """An image shows, however little of a cell it takes; then kept bytes, then the bootloader."""
    kind, number = max(inside, key=lambda key: (_WEIGHT[key[0]], inside[key]))
    images = [key for key in inside if key[0] == "image"]
    return Cell(kind, number, inside[kind, number] >= size, len(images) > 1)
