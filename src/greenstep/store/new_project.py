"""Writing a board into greenstep.toml, leaving everything else there untouched."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import tomlkit

from greenstep.core.errors import usage

from .project import read_project
from .whole_files import write_whole

_HEAD = "The boards of this project: greenstep upload NAME. Keys are named as the options of greenstep upload --help"


def add_board(path: Path, name: str, keys: Mapping[str, Any], replace: bool = False) -> None:
    """Write `[board.NAME]` with `keys` into the file at `path`, which is created if it is missing. Raises UsageFault
    for a file that cannot be read or written, and for a board that exists already."""
    if path.exists():
        there = read_project(path)
        if name in there.boards and not replace:
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
        table.add(key, _inline(value))
    boards: Any = document["board"]
    boards[name] = table
    text = tomlkit.dumps(document)
    try:
        write_whole(path, [text.encode()])
    except OSError as error:
        raise usage("project-file", f"{path} cannot be written: {error.strerror}") from None
    read_project(path)


def _inline(value: Any) -> Any:
    """Tables inside a board stand on one line."""
    if isinstance(value, Mapping):
        table = tomlkit.inline_table()
        for key, inner in value.items():
            table.append(key, tomlkit.value(f"0x{inner:08X}") if key == "at" else _inline(inner))
        return table
    if isinstance(value, list):
        array = tomlkit.array()
        for item in value:
            array.append(_inline(item))
        return array
    return value
