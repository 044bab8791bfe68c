"""A waveform as lanes of text, time from left to right and voltage as the height of a bar; and the effect of a
sequence in words."""

from __future__ import annotations

from itertools import pairwise
from typing import TYPE_CHECKING

from ..frozen import frozen
from .circuits import Hookup
from .sequence import Sequence
from .waveform import Electrics, Pulse, Waveform, draw_waveform

if TYPE_CHECKING:
    from ..chips.part import Part


_BARS = "▁▂▃▄▅▆▇"  # the highest leaves a gap to the lane above
_PLAIN_BARS = "_..--^^"
_FEWEST_COLUMNS = 7


@frozen
class TextLanes:
    """`lanes` are (name, bars); `ruler` gives times in ms under them; `columns` maps times to columns."""

    lanes: tuple[tuple[str, str], ...]
    ruler: str
    edges: tuple[tuple[float, int], ...]

    def column(self, time_s: float) -> int:
        """The column of a time; stretches between two edges have their own scale."""
        for (start, left), (end, right) in pairwise(self.edges):
            if time_s <= end:
                share = (time_s - start) / (end - start) if end > start else 0.0
                return left + int(max(0.0, share) * (right - left))
        return self.edges[-1][1]


def text_lanes(drawn: Waveform, width: int, plain: bool = False) -> TextLanes:
    """Lanes of at most `width` columns. Time between moves is not to scale, so that 0.3 ms shows beside 100 ms."""
    edges = _edges(drawn, width)
    bars = _PLAIN_BARS if plain else _BARS
    lanes = []
    for lane in drawn.lanes:
        cells = []
        for (start, left), (end, right) in pairwise(edges):
            for column in range(right - left):
                share = lane.at(start + (end - start) * (column + 0.5) / (right - left)) / drawn.volts
                cells.append(bars[max(0, min(6, round(share * 6)))])
        lanes.append((lane.name, "".join(cells)))
    return TextLanes(tuple(lanes), _ruler(drawn, edges), edges)


def _edges(drawn: Waveform, width: int) -> tuple[tuple[float, int], ...]:
    times = {0.0, drawn.end_s, *(move.at_s for move in drawn.moves)}
    times |= {pulse.sampled_s for pulse in drawn.pulses if pulse.sampled_s is not None}
    ordered = [0.0]
    for time in sorted(times):
        if time - ordered[-1] > 1e-5:
            ordered.append(time)
    spans = [(end - start) ** 0.35 for start, end in pairwise(ordered)]
    free = max(0, width - _FEWEST_COLUMNS * len(spans))
    columns, at = [0], 0
    for span in spans:
        at += _FEWEST_COLUMNS + int(free * span / sum(spans))
        columns.append(at)
    return tuple(zip(ordered, columns, strict=True))


def _ruler(drawn: Waveform, edges: tuple[tuple[float, int], ...]) -> str:
    """Times since the first move, in ms, each at its column if there is space."""
    origin = drawn.moves[0].at_s if drawn.moves else 0.0
    text = ""
    for time, column in edges[1:-1]:
        label = f"{(time - origin) * 1000:.3g}"
        if len(text) < column or not text:
            text = text.ljust(column) + label + " "
    return f"{text.rstrip()} ms"


def sampling_words(pulse: Pulse, drawn: Waveform) -> str:
    """What the chip reads at its boot pin when reset has risen."""
    boot = drawn.lane("boot")
    if boot is None or pulse.sampled_s is None or pulse.boot_selected is None:
        return "reset has risen: the chip starts"
    chosen = "bootloader" if pulse.boot_selected else "application"
    return f"boot pin read: {boot.at(pulse.sampled_s):.1f} V, {chosen}"


def meter_words(hookup: Hookup, sequence: Sequence, part: Part) -> list[str]:
    """What a meter should show where, after a sequence; a line each."""
    drawn = draw_waveform(hookup, sequence, Electrics.usual(hookup, part.wires.volts), part.boot_level)
    last = drawn.moves[-1] if drawn.moves else None
    dtr, rts = (last.dtr, last.rts) if last else hookup.idle_lines
    lines = [
        f"{name:<6} {'asserted: 0 V' if asserted else 'released: the supply'} at the adapter's pin"
        for name, asserted in (("DTR", dtr), ("RTS", rts))
    ]
    for lane in drawn.lanes[2:]:
        through = hookup.reset is not None and hookup.reset.through == "capacitor" and lane.name == "reset"
        words = "back at the supply: a capacitor passes edges only" if through else f"{lane.at(drawn.end_s):.1f} V"
        lines.append(f"{lane.name:<6} {words}" + ("" if through else f" with {drawn.volts:g} V supply"))
    return lines
