"""A recording as a picture: lines, bytes both ways and what they were about over time; below, where the time went."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from matplotlib.axes import Axes

from greenstep.core.trace.exchanges import Shares
from greenstep.core.trace.recording import Trace
from greenstep.core.trace.story import TraceRow

from .figure import AMBER, BLUE, GREEN, INK, QUIET, RED, figure

_MOST_LABELS = 14


def save_trace(path: Path, trace: Trace, told: Sequence[TraceRow], shares: Shares, title: str) -> None:
    """Draw and save. Raises UsageFault."""
    with figure(path) as whole:
        lines, bytes_, story, time = whole.subplots(4, 1, height_ratios=[1.1, 1.5, 2.6, 1.1])
        for axes in (bytes_, story):
            axes.sharex(lines)
        _lines(lines, trace)
        _bytes(bytes_, trace)
        _story(story, told, trace.end_s)
        _shares(time, shares)
        lines.set_xlim(0, max(trace.end_s, 1e-6))
        lines.set_title(title, loc="left")


def _lines(axes: Axes, trace: Trace) -> None:
    times = [*(change.at_s for change in trace.changes), trace.end_s]
    for level, name in ((1.3, "dtr"), (0.0, "rts")):
        values = [level + 0.9 * getattr(change, name) for change in trace.changes]
        axes.step(times, [*values, values[-1]], where="post", color=BLUE, linewidth=1.6)
    axes.set_yticks([0.4, 1.7], ["RTS", "DTR"])
    axes.set_ylim(-0.3, 2.6)
    axes.tick_params(labelbottom=False)


def _bytes(axes: Axes, trace: Trace) -> None:
    for level, way, colour in ((1.2, "sent", BLUE), (0.0, "heard", GREEN)):
        runs: list[list[float]] = []
        for byte in trace.bytes_seen:
            if byte.way != way:
                continue
            if runs and byte.at_s - (runs[-1][0] + runs[-1][1]) < 2 * byte.took_s:
                runs[-1][1] = byte.end_s - runs[-1][0]
            else:
                runs.append([byte.at_s, byte.took_s])
        axes.broken_barh([(start, length) for start, length in runs], (level, 0.8), color=colour, linewidth=0.3)
    axes.set_yticks([0.4, 1.6], ["heard", "sent"])
    axes.set_ylim(-0.3, 2.3)
    axes.tick_params(labelbottom=False)


def _story(axes: Axes, told: Sequence[TraceRow], end_s: float) -> None:
    rows = [row for row in told if row.what != "lines"]
    kinds = list(dict.fromkeys(row.what for row in sorted(rows, key=lambda row: -row.took_s)))[:_MOST_LABELS]
    kinds.sort(key=lambda kind: next(row.at_s for row in rows if row.what == kind))
    for row in rows:
        if row.what in kinds:
            y = len(kinds) - 1 - kinds.index(row.what)
            axes.barh(y, max(row.took_s, end_s / 400), left=row.at_s, height=0.6, color=AMBER)
    axes.set_yticks(range(len(kinds)), kinds[::-1])
    axes.set_ylim(-0.6, max(0.6, len(kinds) - 0.4))
    axes.set_xlabel("s")


def _shares(axes: Axes, shares: Shares) -> None:
    parts = (
        ("sending", shares.sending_s, BLUE),
        ("hearing", shares.hearing_s, GREEN),
        ("chip busy", shares.busy_s, AMBER),
        ("waiting for the turn", shares.turns_s, "#d8c27a"),
        ("no answer", shares.unanswered_s, RED),
        ("reset and boot", shares.lines_s, QUIET),
        ("before the next question", shares.own_s, "#cfd6db"),
    )
    left = 0.0
    for name, seconds, colour in parts:
        axes.barh(0, seconds, left=left, height=0.7, color=colour, label=f"{name} {seconds:.2f} s")
        left += seconds
    axes.set_xlim(0, max(left, 1e-6))
    axes.set_yticks([])
    axes.spines["left"].set_visible(False)
    axes.set_xlabel("where the seconds went", color=INK)
    axes.legend(ncols=4, loc="upper center", bbox_to_anchor=(0.5, -0.45), frameon=False, fontsize=9.5)
