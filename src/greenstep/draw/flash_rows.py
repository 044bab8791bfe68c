"""Flash to scale as rows of a page, one below the other; maps and comparisons are drawn on it.

Images differ in hue, in lightness and in hatching, so that everybody can tell them apart, whichever colours
they see, on a grey printer too.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from matplotlib.axes import Axes
from matplotlib.collections import LineCollection, PatchCollection
from matplotlib.patches import Patch, Rectangle

from greenstep.core.chips import EraseUnit
from greenstep.core.frozen import frozen

from .figure import INK, QUIET

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
