"""What each dialect rests on: facts about chips with their documents, from rests_on.toml."""

from __future__ import annotations

import tomllib
from functools import cache
from pathlib import Path
from typing import Literal

from ..frozen import frozen

Sureness = Literal["sure", "fairly", "unsure"]


@frozen
class Fact:
    """`source` is a document and its section, or 'from memory'. Where it is unsure, `experiment` settles it on a real
    board: `if_so` and `if_not` are what either outcome means."""

    about: str
    text: str
    source: str
    sureness: Sureness
    experiment: str = ""
    if_so: str = ""
    if_not: str = ""


@cache
def _all() -> dict[str, tuple[Fact, ...]]:
    table = tomllib.loads(Path(__file__).with_name("rests_on.toml").read_text("utf-8"))
    return {name: tuple(Fact(*row) for row in section["facts"]) for name, section in table.items()}


def facts_of(dialect: str) -> tuple[Fact, ...]:
    """Those of a dialect; none are known of a person's own."""
    return _all().get(dialect, ())
