"""What other packages add, by their entry points `greenstep.dialects`, `greenstep.parts` and `greenstep.bench`."""

from __future__ import annotations

import sys
from functools import cache
from importlib.machinery import PathFinder
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from importlib.metadata import EntryPoint


def added(group: str) -> tuple[EntryPoint, ...]:
    """The entry points of a group, such as "greenstep.parts"."""
    if not _may_be_some():
        return ()
    from importlib.metadata import entry_points

    return tuple(entry_points(group=group))


@cache
def _may_be_some() -> bool:
    """Whether any installed package names a group of ours. `importlib.metadata` takes half as long to import as
    everything else a command does first, and hardly anybody has a plugin: look into the files before that."""
    others = (finder for finder in sys.meta_path if finder is not PathFinder)
    if any(hasattr(finder, "find_distributions") for finder in others):
        return True  # packages that are no files in a folder
    return any(_names_ours(Path(place or ".")) for place in sys.path)


def _names_ours(place: Path) -> bool:
    if place.is_file():  # an archive: what is in it cannot be seen from here
        return True
    for pattern in ("*-info/entry_points.txt", "EGG-INFO/entry_points.txt"):
        for file in place.glob(pattern):
            try:
                if b"[greenstep." in file.read_bytes():
                    return True
            except OSError:
                return True  # `importlib.metadata` says what is wrong with it
    return False
