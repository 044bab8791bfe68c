"""TOML that somebody else may have written: parsed only if it is of a size, depth and shape that people write."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable, Mapping
from typing import Any

from greenstep.core.safety.harmless_text import harmless

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
