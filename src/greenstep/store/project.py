"""The project file greenstep.toml: found in this folder or one above it, read and checked. TOML that somebody else
may have written is parsed only if it is of a size, depth and shape that cannot stop the parser."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import field
from pathlib import Path
from typing import Any

from greenstep.core.errors import usage
from greenstep.core.frozen import frozen
from greenstep.core.safety.harmless_text import harmless, is_plain
from greenstep.core.safety.plain_files import read_text
from greenstep.core.suggestions import nearest

from .board import BoardSettings
from .board_keys import board_from_table

LARGEST_BYTES = 1 << 20
DEEPEST = 32
_MOST_DOTS = 200
"""In one line: the time that a dotted key takes grows with the square of its parts."""


class TomlTrouble(ValueError):
    """Why it cannot be read, with the place in it."""


def toml_table(text: str) -> dict[str, Any]:
    """The table in a text. Raises TomlTrouble."""
    if len(text) > LARGEST_BYTES:
        raise TomlTrouble(f"more than {LARGEST_BYTES:,} characters")
    for number, line in enumerate(text.split("\n"), 1):
        if line.count(".") > _MOST_DOTS:
            raise TomlTrouble(f"more than {_MOST_DOTS} dots in line {number}")
    try:
        table = tomllib.loads(text)
    except RecursionError:
        raise TomlTrouble(f"nested more than {DEEPEST} deep") from None
    except ValueError as error:  # a number of too many digits is one that is no TOMLDecodeError
        raise TomlTrouble(harmless(str(error))[:200]) from None
    if _depth(table) > DEEPEST:
        raise TomlTrouble(f"nested more than {DEEPEST} deep")
    return table


def toml_value(text: str) -> Any:
    """A value as it would follow an equals sign. Raises TomlTrouble."""
    return toml_table(f"value = {text}")["value"]


def _depth(table: Mapping[str, Any]) -> int:
    """How deep tables and lists lie in each other. Not by recursion: that is what is to be prevented."""
    depth = 0
    level: list[Any] = [table]
    while level and depth <= DEEPEST:
        depth += 1
        level = [inner for one in level for inner in _inner(one) if isinstance(inner, dict | list)]
    return depth


def _inner(one: Any) -> Iterable[Any]:
    return one.values() if isinstance(one, Mapping) else one


FILE_NAME = "greenstep.toml"


@frozen
class Project:
    """The boards of a project file. `path` is None where there is no file."""

    path: Path | None = None
    boards: dict[str, BoardSettings] = field(default_factory=dict)

    def names_like(self, name: str) -> list[str]:
        """Boards whose names are like `name`."""
        return nearest(name, self.boards, 2, 0.5)


def find_project(folder: Path, named: Path | None = None) -> Project:
    """The project file `named`, else the first greenstep.toml from `folder` upwards, else an empty project. Raises
    UsageFault for a file that cannot be read."""
    if named is not None:
        if not named.is_file():
            raise usage("no-such-file", f"there is no project file {named}")
        return read_project(named)
    for place in (folder, *folder.parents):
        path = place / FILE_NAME
        if path.is_file():
            return read_project(path)
    return Project()


def read_project(path: Path) -> Project:
    """Raises UsageFault with the file, and the place in it."""
    return project_of(project_text(path), path)


def project_text(path: Path) -> str:
    """Raises UsageFault."""
    try:
        return read_text(path, LARGEST_BYTES)
    except UnicodeDecodeError:
        raise usage("project-file", f"{path.name} is not UTF-8 text", "save it as UTF-8") from None
    except OSError as error:
        raise usage("project-file", f"{path} cannot be read: {error.strerror}") from None


def tables_of(text: str, path: Path) -> dict[str, dict[str, Any]]:
    """The boards' tables in the text of the file at `path`, as they are written. Raises UsageFault."""
    try:
        table = toml_table(text)
    except TomlTrouble as error:
        raise usage("project-file", f"{path.name}: {error}", "correct it there") from None
    for key in table:
        if key != "board":
            raise usage("project-key", f"{path.name} has no '{key}'", "boards are written as [board.NAME]")
    boards = table.get("board", {})
    if not isinstance(boards, dict) or not all(isinstance(board, dict) for board in boards.values()):
        raise usage("project-file", f"{path.name}: 'board' is not a table of boards", "write [board.NAME]")
    for name in boards:
        if not is_plain(name):
            raise usage("board-name", f"{path.name}: '{name}' holds control characters", "another name for the board")
    return boards


def project_of(text: str, path: Path) -> Project:
    """The boards in the text of the file at `path`. Raises UsageFault."""
    return Project(path, {name: _board(name, entry, path) for name, entry in tables_of(text, path).items()})


def _board(name: str, table: dict[str, Any], path: Path) -> BoardSettings:
    return board_from_table(table, f"board.{name}", path.parent)
