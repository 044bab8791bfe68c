"""Where images lie in the flash, to scale, with erase units, the bootloader, kept and free space; and two images
above one another, and between them where they differ. Flash is drawn as rows of a page, one below the other."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from matplotlib.axes import Axes
from matplotlib.collections import LineCollection, PatchCollection
from matplotlib.patches import Patch, Rectangle

from greenstep.core.chips.part import EraseUnit, Memory
from greenstep.core.frozen import frozen
from greenstep.core.image import Image
from greenstep.core.image.compare import Comparison
from greenstep.core.image.flash_map import LETTERS, FlashMap
from greenstep.core.quantities import count, show_size, show_span

from .figure import INK, QUIET, RED, figure

IMAGE_LOOKS = (
    ("#0072B2", ""),
    ("#E69F00", "////"),
    ("#56B4E9", "...."),
    ("#006b50", "\\\\\\\\"),
    ("#F0E442", "xx"),
    ("#CC79A7", "||||"),
)
"""Face and hatching of image 0, 1, …, repeating."""
KIND_LOOKS = {"bootloader": ("#5b6770", "xxxx"), "kept": ("#ffffff", "oo"), "free": ("#eceff1", "")}
_MOST_UNIT_LINES = 2100
_ROWS = 8
_MOST_ROWS = 16
_NARROWEST_SHARE = 0.0025
"""Share of a row's width: less would not be visible."""


@frozen
class Rows:
    """`row_bytes` to a row, from `start` to before `end`."""

    start: int
    end: int
    row_bytes: int

    @classmethod
    def of(cls, start: int, end: int) -> Rows:
        """About eight rows, each of a round number of bytes."""
        row = 64
        while row * _ROWS < end - start and row * _MOST_ROWS < 2 * (end - start):
            row *= 2
        return cls(start, end, row)

    @property
    def number(self) -> int:
        return -(-(self.end - self.start) // self.row_bytes)

    def cut(self, low: int, high: int) -> Iterator[tuple[int, int, int]]:
        """A stretch as (row, offset in it, width), in bytes."""
        at = max(low, self.start)
        high = min(high, self.end)
        while at < high:
            row, offset = divmod(at - self.start, self.row_bytes)
            width = min(high - at, self.row_bytes - offset)
            yield row, offset, width
            at += width

    def width_of(self, row: int) -> int:
        """The last row may be shorter."""
        return min(self.row_bytes, self.end - self.start - row * self.row_bytes)


def prepare(axes: Axes, rows: Rows, title: str) -> None:
    """Addresses on the left, offsets along the bottom."""
    digits = 4 if rows.end <= 0x10000 else 8
    axes.set_xlim(-0.002 * rows.row_bytes, rows.row_bytes * 1.002)
    axes.set_ylim(rows.number - 0.35, -0.65)
    labels = [f"{rows.start + row * rows.row_bytes:0{digits}X}" for row in range(rows.number)]
    axes.set_yticks(range(rows.number), labels, family="DejaVu Sans Mono")
    steps = [rows.row_bytes * eighth // 8 for eighth in range(9)]
    axes.set_xticks(steps, [f"+{step:X}" for step in steps], family="DejaVu Sans Mono")
    axes.tick_params(length=0)
    for side in ("left", "bottom"):
        axes.spines[side].set_visible(False)
    axes.set_title(title, loc="left", color=INK)


def fill(
    axes: Axes, rows: Rows, spans: Sequence[tuple[int, int]], look: tuple[str, str], lane: tuple[float, float]
) -> None:
    """Stretches (start, end) in one style; `lane` is (top, height) around a row's middle, in rows."""
    top, height = lane
    least = rows.row_bytes * _NARROWEST_SHARE
    boxes = [
        Rectangle((offset, row + top), max(width, least), height)
        for low, high in spans
        for row, offset, width in rows.cut(low, high)
    ]
    face, hatch = look
    edge = INK if hatch else "none"
    axes.add_collection(
        PatchCollection(boxes, facecolor=face, edgecolor=edge, linewidth=0.4 if hatch else 0, hatch=hatch or None)
    )


def unit_lines(axes: Axes, rows: Rows, units: Sequence[EraseUnit], lane: tuple[float, float]) -> None:
    """A fine line where an erase unit begins; none if they would be too close to tell apart."""
    if not units or len(units) > _MOST_UNIT_LINES:
        return
    top, height = lane
    lines = [
        [(offset, row + top), (offset, row + top + height)]
        for unit in units
        for row, offset, _ in list(rows.cut(unit.address, unit.address + 1))
    ]
    axes.add_collection(LineCollection(lines, colors="white", linewidths=0.7))
    frame = [[(0, row + top + height), (rows.width_of(row), row + top + height)] for row in range(rows.number)]
    axes.add_collection(LineCollection(frame, colors=QUIET, linewidths=0.6))


def tag(axes: Axes, rows: Rows, spans: Sequence[tuple[int, int]], letter: str, lane: tuple[float, float]) -> None:
    """A letter over the longest stretch: in a large flash a small image is only a line, too thin for its colour to
    show."""
    low, high = max(spans, key=lambda span: span[1] - span[0])
    row, offset, width = next(rows.cut(low, high))
    axes.text(offset + width / 2, row + lane[0] - 0.03, letter, fontsize=9, ha="center", va="bottom", color=INK)


def swatch(look: tuple[str, str], label: str) -> Patch:
    """A style's sample in the legend."""
    face, hatch = look
    return Patch(facecolor=face, edgecolor=INK, hatch=hatch or None, label=label, linewidth=0.4)


def legend(axes: Axes, entries: Sequence[Patch], columns: int) -> None:
    """Below the rows."""
    found: Any = axes.legend(
        handles=list(entries), loc="upper left", bbox_to_anchor=(0, -0.06), ncols=columns, frameon=False,
        fontsize=10.5, handlelength=2.6, handleheight=1.3, borderaxespad=0.3,
    )  # fmt: skip
    found.set_in_layout(True)


_LANE = (-0.36, 0.72)


def save_map(path: Path, drawn: FlashMap, title: str) -> None:
    """Draw and save. Raises UsageFault."""
    rows = Rows.of(drawn.start, drawn.end)
    with figure(path) as whole:
        axes = whole.subplots()
        prepare(axes, rows, f"{title}{_unit_words(drawn)}")
        fill(axes, rows, [(drawn.start, drawn.end)], KIND_LOOKS["free"], _LANE)
        unit_lines(axes, rows, drawn.units, _LANE)
        entries = []
        for kind in ("bootloader", "kept"):
            spans = [(s.start, s.end) for s in drawn.stretches if s.kind == kind]
            if spans:
                fill(axes, rows, spans, KIND_LOOKS[kind], _LANE)
                why = ", ".join(dict.fromkeys(s.why for s in drawn.stretches if s.kind == kind and s.why))
                size = show_size(sum(high - low for low, high in spans))
                entries.append(swatch(KIND_LOOKS[kind], f"{kind}{f' ({why})' if why else ''}: {size}"))
        names = []
        for number, image in enumerate(drawn.images):
            look = IMAGE_LOOKS[number % len(IMAGE_LOOKS)]
            spans = [(s.start, s.end) for s in drawn.stretches if s.kind == "image" and s.number == number]
            fill(axes, rows, spans, look, _LANE)
            if spans:
                tag(axes, rows, spans, LETTERS[number % 26], _LANE)
            span = show_span(image.lowest, image.end - image.lowest)
            names.append(
                swatch(look, f"{LETTERS[number % 26]}  {image.name}: {count(drawn.held(number), 'byte')}, {span}")
            )
        entries.append(swatch(KIND_LOOKS["free"], f"free: {show_size(drawn.total('free'))}"))
        legend(axes, [*names, *entries], 2 if len(names) + len(entries) > 3 else 3)


def _unit_words(drawn: FlashMap) -> str:
    sizes = sorted({unit.size for unit in drawn.units})
    if not sizes:
        return ""
    if len(sizes) == 1:
        return f"   erase units of {show_size(sizes[0])}"
    return f"   erase units of {show_size(sizes[0])} to {show_size(sizes[-1])}"


_A, _BETWEEN, _B = (-0.38, 0.27), (-0.09, 0.18), (0.11, 0.27)
_WHOLE = (-0.38, 0.76)
_DIFFERS = (RED, "")


def save_comparison(path: Path, found: Comparison, memory: Memory | None) -> None:
    """Draw and save: the part of the memory that the two reach, in whole erase units. Raises UsageFault."""
    low, high = _reach((found.a, found.b), memory)
    rows = Rows.of(low, high)
    with figure(path) as whole:
        axes = whole.subplots()
        runs = [(run.start, run.end) for run in found.runs if not run.blank]
        told = "the same" if found.same else f"{count(sum(end - at for at, end in runs), 'byte')} differ"
        prepare(axes, rows, f"A {found.a.name}   over   B {found.b.name}:   {told}")
        fill(axes, rows, [(low, high)], KIND_LOOKS["free"], _WHOLE)
        if memory is not None:
            unit_lines(axes, rows, memory.units_touched(low, high - low), _WHOLE)
        entries = []
        for number, (letter, image, lane) in enumerate((("A", found.a, _A), ("B", found.b, _B))):
            spans = [(piece.address, piece.end) for piece in image.pieces]
            fill(axes, rows, spans, IMAGE_LOOKS[number], lane)
            label = f"{letter}  {image.name}: {count(image.size_bytes, 'byte')}"
            entries.append(swatch(IMAGE_LOOKS[number], label))
        fill(axes, rows, runs, _DIFFERS, _BETWEEN)
        entries.append(swatch(_DIFFERS, "differ, or in one only"))
        legend(axes, entries, 3)


def _reach(images: Sequence[Image], memory: Memory | None) -> tuple[int, int]:
    low = min(image.lowest for image in images)
    high = max(image.end for image in images)
    if memory is None or high <= memory.start or low >= memory.end:
        return low & ~15, -(-high // 16) * 16
    units = memory.units_touched(low, high - low)
    return min(units[0].address, low), max(units[-1].end, high)
