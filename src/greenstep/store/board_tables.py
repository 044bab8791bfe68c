"""A board's values as they are written into greenstep.toml, the other direction of board_keys; and everything that is
said about a board, in words."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from greenstep.core.plan.write_options import FOR_GOOD, Keep
from greenstep.core.quantities import show_span

from .board import BoardSettings, ImageFile, PortChoice, TalkEntry
from .board_keys import KEYS, Key


def table_of(settings: BoardSettings, folder: Path) -> dict[str, Any]:
    """The keys that are given, in the manual's order, with values as TOML has them; files relative to `folder`."""
    table: dict[str, Any] = {}
    for key in KEYS:
        value = getattr(settings, key.joins or key.name)
        if key.name in ("images", "eeprom"):
            value = [image for image in value or () if (image.memory == "eeprom") == (key.name == "eeprom")] or None
        if value is not None:
            table[key.name] = _written(value, folder)
    return table


def _written(value: Any, folder: Path) -> Any:
    match value:
        case PortChoice(name, "", ""):
            return name
        case PortChoice():
            return {key: text for key, text in value.__dict__.items() if text}
        case ImageFile():
            return image_value(value, folder)
        case Keep():
            return {"from": value.address, "size": value.size} | ({"why": value.why} if value.why else {})
        case TalkEntry():
            sent = (
                {"send": value.send} if value.send is not None else {"secret": value.secret} if value.secret else {}
            )
            late = {"within": value.within} if value.within != TalkEntry.within else {}
            return {"expect": value.expect, **late, **sent} if value.expect else {**late, **sent}
        case Path():
            return _named(value, folder)
        case Mapping():
            return {key: _setting(one, folder) for key, one in value.items()}
        case list() | tuple():
            return [_written(one, folder) for one in value]
    return value


def _setting(value: Any, folder: Path) -> Any:
    return {"file": _named(value, folder)} if isinstance(value, Path) else _written(value, folder)


def image_value(image: ImageFile, folder: Path) -> Any:
    """A file as it is named in the project file of that folder: relative to it if possible."""
    file = _named(image.file, folder)
    named: dict[str, Any] = {"file": file} if image.pack is None else {"folder": file, "as": image.pack}
    if image.at is not None:
        named["at"] = image.at
    if image.size is not None:
        named["size"] = image.size
    if image.memory not in ("flash", "eeprom"):
        named["memory"] = image.memory
    return named if len(named) > 1 else file


def _named(file: Path, folder: Path) -> str:
    return str(file) if file.is_absolute() else Path(os.path.relpath(file, folder)).as_posix()


def board_in_words(table: Mapping[str, Any], where: str) -> Iterator[tuple[str, str]]:
    """The name of each key that is given, with its value. `where` names the table. Raises UsageFault."""
    for key in KEYS:
        if key.name in table:
            value = key.of(table[key.name], where, Path())
            yield key.name.replace("_", " "), _words(key, value)


def _words(key: Key, value: Any) -> str:
    match value:
        case ImageFile():
            at = "" if value.at is None else f" at 0x{value.at:X}" if isinstance(value.at, int) else f" at {value.at}"
            return f"{value.file.name}{f' as {value.pack}' if value.pack else ''}{at}"
        case Path():
            return value.name
        case PortChoice():
            return value.name or value.serial or value.remembered
        case TalkEntry():
            return _turn(value)
        case Keep():
            return f"{show_span(value.address, value.size)}{f' ({value.why})' if value.why else ''}"
        case Mapping():
            return "; ".join(f"{name}: {_words(key, one)}" for name, one in value.items())
        case bool():
            return "yes" if value else "no"
        case list() | tuple():
            return ", ".join(_words(key, one) for one in value)
        case int() if key.name == "also_accept":
            return f"0x{value:X}"
    if key.name == "even_if" and value in FOR_GOOD:
        return f"{value}, if you add --even-if {value}"
    return str(value)


def _turn(turn: TalkEntry) -> str:
    awaited = f'"{turn.expect}", at most {turn.within:g} s' if turn.expect else ""
    if not turn.secret and turn.send is None:
        return f"wait for {awaited}"
    sent = f"send the secret {turn.secret}, which you are asked for" if turn.secret else f'send "{turn.send}"'
    return f"after {awaited}, {sent}" if awaited else sent
