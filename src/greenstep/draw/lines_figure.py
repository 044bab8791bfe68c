"""A sequence as a timing diagram: DTR, RTS, reset and boot in volts over milliseconds."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from matplotlib.axes import Axes

from greenstep.core.hookup.waveform import HIGH_SHARE, LOW_SHARE, Lane, Pulse, Waveform
from greenstep.core.hookup.waveform_text import sampling_words

from .figure import AMBER, BLUE, GREEN, INK, QUIET, RED, figure

_COLOURS = {"DTR": BLUE, "RTS": BLUE, "reset": RED, "boot": AMBER}
_POINTS = 4000


def save_lines(path: Path, drawn: Waveform, title: str, boot_level: str, notes: tuple[str, ...]) -> None:
    """Draw and save; beside the whole sequence is a close-up of the rise of reset. Raises UsageFault."""
    origin_s = drawn.moves[0].at_s if drawn.moves else 0.0
    sampled = [pulse for pulse in drawn.pulses if pulse.sampled_s is not None]
    with figure(path, height=1.7 * len(drawn.lanes) + 1.6) as whole:
        columns = 2 if sampled else 1
        axes = whole.subplots(len(drawn.lanes), columns, squeeze=False, sharex="col", width_ratios=[2.4, 1][:columns])
        for row, lane in enumerate(drawn.lanes):
            _draw(axes[row, 0], lane, drawn, (0.0, drawn.end_s), origin_s)
            axes[row, 0].set_ylabel(f"{lane.name}\nV", rotation=0, labelpad=24, va="center")
            if sampled:
                _draw(
                    axes[row, 1],
                    lane,
                    drawn,
                    _close(sampled[-1].sampled_s or 0.0, sampled[-1].end_s, drawn),
                    origin_s,
                )
        for column in range(columns):
            _mark_samplings(axes[:, column], sampled, drawn, boot_level, origin_s, words=column == columns - 1)
            axes[-1, column].set_xlabel("ms since the first move" if column == 0 else "ms, at the rise of reset")
        whole.suptitle("\n".join((title, *(f"! {note}" for note in notes))), x=0.01, ha="left", color=INK)


def _close(sampled_s: float, end_s: float | None, drawn: Waveform) -> tuple[float, float]:
    """The time span to draw, around the moment when the boot pin counts."""
    low_s = sampled_s - end_s if end_s is not None else 0.001
    margin_s = max(3 * low_s, 0.002)
    return max(0.0, sampled_s - margin_s), min(drawn.end_s, sampled_s + margin_s)


def _draw(axes: Axes, lane: Lane, drawn: Waveform, span: tuple[float, float], origin_s: float) -> None:
    edges = [stretch.start_s for stretch in lane.stretches if span[0] < stretch.start_s < span[1]]
    times = np.unique(np.concatenate([np.linspace(*span, _POINTS), edges, np.array(edges) - 1e-9]))
    axes.plot((times - origin_s) * 1000, [lane.at(time) for time in times], color=_COLOURS[lane.name], linewidth=2)
    axes.set_ylim(-0.2 * drawn.volts, 1.3 * drawn.volts)
    axes.set_xlim((span[0] - origin_s) * 1000, (span[1] - origin_s) * 1000)
    axes.set_yticks([0, drawn.volts], ["0", f"{drawn.volts:g}"])
    if lane.name == "reset":
        for share in (LOW_SHARE, HIGH_SHARE):
            axes.axhline(share * drawn.volts, color=QUIET, linewidth=0.8, linestyle=":")


def _mark_samplings(
    axes: object, sampled: list[Pulse], drawn: Waveform, boot_level: str, origin_s: float, words: bool
) -> None:
    """Where the chip reads its boot pin."""
    column = list(axes)  # type: ignore[call-overload]
    for pulse in sampled:
        at_ms = (pulse.sampled_s or 0.0) * 1000 - origin_s * 1000
        for one in column:
            one.axvline(at_ms, color=GREEN, linewidth=1.2, linestyle="--")
    if words and sampled:
        at_ms = ((sampled[-1].sampled_s or 0.0) - origin_s) * 1000
        column[0].set_title(sampling_words(sampled[-1], drawn), fontsize=10, color=GREEN, loc="left")
        column[0].set_xlim(column[0].get_xlim()[0], max(column[0].get_xlim()[1], at_ms))
