"""Adapter, chip, and the wires between them; beside the chip its boot jumper."""

from __future__ import annotations

from pathlib import Path

from matplotlib.axes import Axes
from matplotlib.patches import Circle, FancyBboxPatch

from greenstep.core.hookup.wiring import Wire, Wiring

from .figure import AMBER, BLUE, GREEN, INK, QUIET, RED, figure

_COLOURS = {"ground": INK, "supply": RED, "out": BLUE, "in": GREEN}
_LEFT, _RIGHT = 2.6, 7.6
_ARROW = {"out": "->", "in": "<-", "ground": "-", "supply": "->"}


def save_wiring(path: Path, wiring: Wiring, title: str) -> None:
    """Draw and save. Raises UsageFault."""
    rows = len(wiring.wires)
    with figure(path, height=1.9 + 0.78 * rows + 0.27 * len(wiring.advice)) as whole:
        axes = whole.subplots()
        bottom = -0.9 - 0.36 * len(wiring.advice) - (1.5 if wiring.jumper else 0)
        axes.set_xlim(0, 12)
        axes.set_ylim(bottom, rows + 0.7)
        axes.axis("off")
        axes.set_title(title, loc="left")
        _box(axes, 0.5, _LEFT, rows, "adapter")
        _box(axes, _RIGHT, 9.9, rows, "chip")
        for row, wire in enumerate(wiring.wires):
            _wire(axes, wire, rows - 0.75 - row)
        below = -0.6
        if wiring.jumper:
            _jumper(axes, wiring)
            below -= 1.5
        for number, (heading, text) in enumerate(wiring.advice):
            axes.text(0.5, below - 0.36 * number, heading, fontsize=9.5, color=QUIET, va="top")
            axes.text(1.9, below - 0.36 * number, text, fontsize=9.5, va="top")


def _box(axes: Axes, left: float, right: float, rows: int, name: str) -> None:
    box = FancyBboxPatch(
        (left, -0.1), right - left, rows + 0.1, boxstyle="round,pad=0.05", facecolor="#f4f1e8", edgecolor=INK
    )
    axes.add_patch(box)
    axes.text((left + right) / 2, rows + 0.12, name, ha="center", va="bottom", fontsize=12, weight="bold")


def _wire(axes: Axes, wire: Wire, y: float) -> None:
    colour = _COLOURS[wire.way]
    axes.text(_LEFT - 0.15, y, wire.adapter, ha="right", va="center", fontsize=11)
    axes.text(_RIGHT + 0.15, y, wire.chip, ha="left", va="center", fontsize=11)
    style = {"arrowstyle": _ARROW[wire.way], "color": colour, "linewidth": 2.2, "shrinkA": 0, "shrinkB": 0}
    dashed = "--" if wire.way == "supply" else "-"
    axes.annotate("", (_RIGHT, y), (_LEFT, y), arrowprops={**style, "linestyle": dashed})
    for x in (_LEFT, _RIGHT):
        axes.add_patch(Circle((x, y), 0.055, color=colour, zorder=3))
    if wire.through:
        axes.text(
            (_LEFT + _RIGHT) / 2,
            y,
            wire.through,
            ha="center",
            va="center",
            fontsize=10,
            bbox={"boxstyle": "round,pad=0.25", "facecolor": "white", "edgecolor": colour},
        )
    axes.text((_LEFT + _RIGHT) / 2, y + 0.2, wire.note, ha="center", va="bottom", fontsize=8.5, color=QUIET)


def _jumper(axes: Axes, wiring: Wiring) -> None:
    """The boot pin between low and high: where the cap goes to load, and where to run."""
    for index, (doing, level) in enumerate((("to load", wiring.boot_load), ("to run", wiring.boot_run))):
        left = 2.6 + 4.6 * index
        y = -1.15
        axes.text(left - 0.45, y, doing, ha="right", va="center", fontsize=11, weight="bold")
        capped = (0, 1) if level == "high" else (1, 2)
        x0 = left + 0.62 * capped[0] - 0.2
        axes.add_patch(
            FancyBboxPatch((x0, y - 0.2), 1.02, 0.4, boxstyle="round,pad=0.04", facecolor=AMBER, edgecolor=INK)
        )
        for number, name in enumerate(("VCC", wiring.boot_pin, "GND")):
            axes.add_patch(Circle((left + 0.62 * number, y), 0.09, color=INK, zorder=3))
            axes.text(left + 0.62 * number, y - 0.42, name, ha="center", va="top", fontsize=8.5)
        axes.text(left + 1.65, y, f"{wiring.boot_pin} {level}", ha="left", va="center", fontsize=10)
