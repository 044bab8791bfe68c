"""Everything that is said about a board, in words: one row for each key, none left out."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from greenstep.core.plan.write_options import FOR_GOOD, Keep
from greenstep.core.quantities import show_span

from .board import ImageFile, PortChoice, TalkEntry
from .board_keys import KEYS, Key


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
