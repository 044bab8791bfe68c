"""What a value of a board reaches beyond itself: files, programs, pins of the computer, ports, secrets.

The person's own project file may name all of it. A kit comes from somebody else: what it may reach is decided by the
same table of keys that reads it.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from enum import Enum
from pathlib import Path
from typing import Any

from greenstep.core.frozen import frozen
from greenstep.core.hookup.other_pins import is_outside, runs_programs

from .board import ImageFile, PortChoice, TalkEntry


class Reach(Enum):
    """The kinds. A pin is one of this computer."""

    FILE = "file"
    FOLDER = "folder"
    PROGRAM = "program"
    PIN = "pin"
    PORT = "port"
    SECRET = "secret"


@frozen
class Reached:
    """One such thing, by its name."""

    kind: Reach
    name: str


def reached_by(value: Any) -> Iterator[Reached]:
    """All that a value, as `Key.of` returns it, reaches; at any depth."""
    match value:
        case ImageFile():
            yield Reached(Reach.FOLDER if value.pack else Reach.FILE, value.file.as_posix())
        case Path():
            yield Reached(Reach.FILE, value.as_posix())
        case PortChoice():
            yield Reached(Reach.PORT, value.name or value.serial or value.remembered)
        case TalkEntry():
            if value.secret:
                yield Reached(Reach.SECRET, value.secret)
        case Mapping():
            if is_outside(value):
                program = runs_programs({"": value})
                yield Reached(Reach.PROGRAM if program else Reach.PIN, str(value.get("run_on", value.get("gpio"))))
            for one in value.values():
                yield from reached_by(one)
        case list() | tuple():
            for one in value:
                yield from reached_by(one)
