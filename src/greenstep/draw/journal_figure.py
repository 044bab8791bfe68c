"""The journal over time: how long each upload took, and how many failed per day."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from matplotlib.axes import Axes
from matplotlib.dates import AutoDateLocator, ConciseDateFormatter
from matplotlib.ticker import MaxNLocator

from greenstep.core.journal.records import JournalEntry
from greenstep.core.quantities import count

from .figure import AMBER, GREEN, INK, RED, figure

_MOST_BARS = 90
_SPANS = ((1, "a day"), (7, "a week"), (30, "30 days"), (365, "365 days"))
_LOOKS = {
    "green": (GREEN, "o", "green"),
    "unproven": (AMBER, "s", "not all proven"),
    "failed": (RED, "X", "failed"),
    "interrupted": (INK, "P", "interrupted"),
}


def save_journal(path: Path, entries: Sequence[JournalEntry], said: str) -> None:
    """Draw and save. `said` describes the selection. Raises UsageFault."""
    with figure(path) as whole:
        took, failed = whole.subplots(2, 1, sharex=True, height_ratios=[2.2, 1])
        good = sum(entry.exit_code == 0 for entry in entries)
        title = f"{count(len(entries), 'run')}, {len(entries) - good:,} not green"
        took.set_title("   ".join(text for text in (title, said) if text), loc="left", color=INK)
        _durations(took, entries)
        _failures(failed, entries)
        locator = AutoDateLocator()  # type: ignore[no-untyped-call]
        formatter = ConciseDateFormatter(locator)  # type: ignore[no-untyped-call]
        failed.xaxis.set_major_locator(locator)
        failed.xaxis.set_major_formatter(formatter)


def _when(entry: JournalEntry) -> datetime:
    """In the local time of the upload, so that a day is a day there."""
    return datetime.fromisoformat(entry.at).replace(tzinfo=None)


def _durations(axes: Axes, entries: Sequence[JournalEntry]) -> None:
    for outcome, (colour, marker, label) in _LOOKS.items():
        these = [entry for entry in entries if entry.outcome == outcome]
        if these:
            times: Any = [_when(entry) for entry in these]
            axes.scatter(
                times, [entry.seconds for entry in these], s=42, c=colour, marker=marker, linewidths=0,
                label=f"{label} {len(these):,}", alpha=0.85,
            )  # fmt: skip
    axes.set_ylabel("s")
    axes.set_ylim(bottom=0)
    axes.legend(frameon=False, ncols=4, loc="lower right", bbox_to_anchor=(1, 1))


def _failures(axes: Axes, entries: Sequence[JournalEntry]) -> None:
    """Bars of a day, a week or a month: all, and in front of them those that failed."""
    ordinals = [_when(entry).toordinal() for entry in entries]
    reach = max(ordinals) - min(ordinals) + 1
    days, name = next((days, name) for days, name in _SPANS if reach <= days * _MOST_BARS or days == _SPANS[-1][0])
    every = Counter(ordinal // days for ordinal in ordinals)
    failed = Counter(ordinal // days for ordinal, entry in zip(ordinals, entries, strict=True) if entry.exit_code)
    spans = sorted(every)
    middle = timedelta(days=days / 2)
    places: Any = [datetime.fromordinal(span * days) + middle for span in spans]
    width = 0.8 * days
    axes.bar(places, [every[span] for span in spans], width=width, color="#cfe3d6", edgecolor=GREEN, label="all")
    axes.bar(
        places,
        [failed[span] for span in spans],
        width=width,
        color=RED,
        hatch="//",
        edgecolor="white",
        label="failed",
    )
    axes.set_ylabel(name)
    axes.yaxis.set_major_locator(MaxNLocator(integer=True))
    axes.legend(frameon=False, ncols=2, loc="lower right", bbox_to_anchor=(1, 1))
