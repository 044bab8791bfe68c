"""`greenstep loader`: its commands are loaded when they are called."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

import click

from .lazy_commands import LazyCommands


class _LoaderCommands(LazyCommands):
    places: ClassVar[Mapping[str, tuple[str, str]]] = {
        "make": ("loader_make", "command"),
        "room": ("loader_room", "command"),
    }
    summaries: ClassVar[Mapping[str, str]] = {
        "make": "A resident bootloader for a chip that has none, ready to be put in.",
        "room": "Plan the room, the jump and the addresses of a resident bootloader.",
    }
    called = "greenstep loader"


@click.group("loader", cls=_LoaderCommands, short_help="A resident bootloader: made, and its room.")
def command() -> None:
    """Resident bootloaders: those that stand in the flash themselves, beside the application."""
