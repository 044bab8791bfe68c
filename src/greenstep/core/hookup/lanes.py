"""A waveform as lanes of text: time from left to right, voltage as the height of a bar."""

from __future__ import annotations

from itertools import pairwise

from ..frozen import frozen
from .waveform import Waveform

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
