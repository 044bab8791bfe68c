"""`greenstep image`: its commands are loaded when they are called."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

import click

from .command_groups import LazyCommands

_COMMANDS = {
    "show": ("image_show", "What a file holds and looks like; whether it fits a chip."),
    "unpack": ("image_edit", "The files of a littlefs or FAT in it; --save writes them."),
    "map": ("image_map", "Where it lies in the flash; --save draws it."),
    "dump": ("image_dump", "Its bytes, in hexadecimal and as text."),
    "compare": ("image_compare", "What differs between two; the exit status tells too."),
    "join": ("image_edit", "Several as one file."),
    "cut": ("image_edit", "A part of one as a file."),
    "convert": ("image_edit", "Another format, place or content: moved, filled, patched, with correct sums."),
}


class _ImageCommands(LazyCommands):
    places: ClassVar[Mapping[str, tuple[str, str]]] = {
        name: (module, f"{name}_command") for name, (module, _) in _COMMANDS.items()
    }
    summaries: ClassVar[Mapping[str, str]] = {name: summary for name, (_, summary) in _COMMANDS.items()}
    called = "greenstep image"


@click.group("image", cls=_ImageCommands, short_help="Look into image files, compare and change them.")
def image_command() -> None:
    """Look into image files before they reach a chip; compare, join, cut and convert them. The format is recognised
    by content: Intel HEX, S-record, TI-TXT, ELF, otherwise raw. Opens no port and never changes a file."""
