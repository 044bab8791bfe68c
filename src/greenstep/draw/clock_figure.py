"""Error over baud rate, with the safe band."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from greenstep.core.clock.uarts import SAFE_EACH, RateMade

from .figure import AMBER, GREEN, INK, QUIET, RED, figure

_COLOURS = {"safe": GREEN, "edge": AMBER, "no": RED}
_MARKS = {"safe": "o", "edge": "D", "no": "X"}


def save_clock(path: Path, made: Sequence[RateMade], title: str, adapter: float) -> None:
    """Draw and save. Raises UsageFault."""
    possible = [rate for rate in made if rate.divided is not None]
    with figure(path, height=6.4) as whole:
        axes = whole.subplots()
        places = range(len(made))
        axes.axhspan((adapter - SAFE_EACH) * 100, (adapter + SAFE_EACH) * 100, color=GREEN, alpha=0.13, linewidth=0)
        for sign in (-1, 1):
            tolerated = [
                sign * rate.tolerates * 100 + adapter * 100 if rate.divided else float("nan") for rate in made
            ]
            axes.step(places, tolerated, where="mid", color=QUIET, linewidth=1.2, linestyle="--")
        axes.axhline(0, color=QUIET, linewidth=0.8)
        highest = max([6.0, *(abs(rate.error) * 100 for rate in possible if abs(rate.error) < 0.12)]) + 1.5
        for place, rate in zip(places, made, strict=True):
            if rate.divided is None:
                axes.text(place, 0, "no divider", rotation=90, ha="center", va="center", color=RED, fontsize=9)
                continue
            shown = max(-highest * 0.96, min(highest * 0.96, rate.error * 100))
            axes.plot([place, place], [0, shown], color=_COLOURS[rate.verdict], linewidth=1.5)
            axes.plot(place, shown, _MARKS[rate.verdict], color=_COLOURS[rate.verdict], markersize=9)
            above = rate.error >= 0
            axes.annotate(
                f"{rate.error * 100:+.1f}",
                (place, shown),
                xytext=(0, 10 if above else -10),
                textcoords="offset points",
                ha="center",
                va="bottom" if above else "top",
                fontsize=9,
            )
        axes.set_ylim(-highest * 1.12, highest * 1.12)
        axes.set_xticks(list(places), [f"{rate.baud:,}" for rate in made], rotation=45, ha="right")
        axes.set_ylabel("error of the chip's rate, %")
        axes.set_xlabel("baud")
        axes.text(
            0.995,
            0.02,
            "green band: safe   dashed: what the chip's receiver tolerates   ● safe   ◆ at the edge   ✖ no",
            transform=axes.transAxes,
            ha="right",
            fontsize=9,
            color=INK,
        )
        axes.set_title(title, loc="left")
