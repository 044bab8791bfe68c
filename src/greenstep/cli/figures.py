"""Figures to files."""

from __future__ import annotations

from importlib import import_module
from pathlib import Path

from .screen import say


def save_figure(save: Path | None, drawer: str, *drawn: object) -> None:
    """Draw into a file, if one is wanted: `drawer` is MODULE:FUNCTION of `greenstep.draw`, loaded only then, because
    drawing takes long to load. Raises UsageFault for an ending that is no kind of picture."""
    if save is None:
        return
    from greenstep.draw.kinds import check_kind

    check_kind(save)
    module, _, function = drawer.partition(":")
    getattr(import_module(f"greenstep.draw.{module}"), function)(save, *drawn)


def saved_line(save: Path | None) -> None:
    if save is not None:
        say("", f"saved {save}")
