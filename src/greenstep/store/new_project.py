"""Boards written into greenstep.toml, changed there and taken out; everything else in it stays untouched."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import Any

import tomlkit

from greenstep.core.errors import usage

from .project import project_of, read_project
from .whole_files import write_whole

_HEAD = "The boards of this project: greenstep upload NAME. Keys are named as the options of greenstep upload --help"


def add_board(path: Path, name: str, keys: Mapping[str, Any], replace: bool = False) -> None:
    """Write `[board.NAME]` with `keys` into the file at `path`, which is created if it is missing. Raises UsageFault
    for a file that cannot be read or written, and for a board that exists already."""
    if not re.fullmatch(r"[A-Za-z0-9][\w-]*", name):
        raise usage("board-name", f"'{name}' is not a valid board name", "letters, digits, '-' and '_'")
    if path.exists():
        if name in read_project(path).boards and not replace:
            raise usage("board-there", f"{path.name} has a board '{name}' already", "another name, or --replace")
        document = tomlkit.parse(path.read_text("utf-8"))
    else:
        document = tomlkit.document()
        document.add(tomlkit.comment(_HEAD))
        document.add(tomlkit.nl())
    if "board" not in document:
        document.add("board", tomlkit.table(is_super_table=True))
    table = tomlkit.table()
    for key, value in keys.items():
        table.add(key, _inline(value, key))
    boards: Any = document["board"]
    boards[name] = table
    _save(path, document)


def change_board(path: Path, name: str, keys: Mapping[str, Any], without: Iterable[str] = ()) -> None:
    """Give a board other values for some keys, and take keys away; all else in the file stays, comments included.
    Raises UsageFault."""
    document, table = _board(path, name)
    for key in without:
        if key not in table:
            raise usage("project-key", f"{name} has no {key} to take away", f"it has {', '.join(table)}")
        del table[key]
    for key, value in keys.items():
        table[key] = _inline(value, key)
    _save(path, document)


def remove_board(path: Path, name: str, consented: Callable[[], object]) -> None:
    """Take a board out of the file; `consented` is called before, and raises if it is not wanted. Raises
    UsageFault."""
    document, _ = _board(path, name)
    consented()
    boards: Any = document["board"]
    del boards[name]
    _save(path, document)


def _board(path: Path, name: str) -> tuple[tomlkit.TOMLDocument, Any]:
    """The file, and the table of a board in it."""
    there = read_project(path)
    if name not in there.boards:
        near = there.names_like(name) or list(there.boards)
        raise usage("no-such-board", f"{path.name} has no board '{name}'", f"it has {', '.join(near) or 'none'}")
    document = tomlkit.parse(path.read_text("utf-8"))
    boards: Any = document["board"]
    return document, boards[name]


def _save(path: Path, document: tomlkit.TOMLDocument) -> None:
    """Write the file, if it can be read again as a project."""
    text = tomlkit.dumps(document)
    project_of(text, path)
    try:
        write_whole(path, [text.encode()])
    except OSError as error:
        raise usage("project-file", f"{path} cannot be written: {error.strerror}") from None


_HEXADECIMAL = ("at", "from", "also_accept")


def _inline(value: Any, key: str) -> Any:
    """Tables inside a board stand on one line; addresses and chip numbers are hexadecimal."""
    if isinstance(value, Mapping):
        table = tomlkit.inline_table()
        for name, inner in value.items():
            table.append(name, _inline(inner, name))
        return table
    if isinstance(value, list):
        array = tomlkit.array()
        for item in value:
            array.append(_inline(item, key))
        return array
    return tomlkit.value(f"0x{value:08X}") if key in _HEXADECIMAL and isinstance(value, int) else value
