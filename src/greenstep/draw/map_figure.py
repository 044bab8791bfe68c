"""Where images lie in the flash: to scale, with erase units, the bootloader, kept and free space."""

from __future__ import annotations

from pathlib import Path

from greenstep.core.image.flash_map import LETTERS, FlashMap
from greenstep.core.quantities import count, show_size, show_span

from .figure import figure
from .flash_rows import IMAGE_LOOKS, KIND_LOOKS, Rows, fill, legend, prepare, swatch, tag, unit_lines

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
