"""Two images above one another in the flash, and between them where they differ."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from greenstep.core.chips import Memory
from greenstep.core.image import Image
from greenstep.core.image.compare import Comparison
from greenstep.core.quantities import count

from .figure import RED, figure
from .flash_rows import IMAGE_LOOKS, KIND_LOOKS, Rows, fill, legend, prepare, swatch, unit_lines

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
