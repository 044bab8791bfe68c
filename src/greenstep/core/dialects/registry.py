"""Dialects by name: our own, and those that other packages add through the entry point `greenstep.dialects`; and what
each rests on: facts about chips with their documents, from rests_on.toml."""

from __future__ import annotations

import tomllib
from functools import cache
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from ..chips.catalogue import own_files
from ..chips.plugins import added
from ..errors import usage
from ..findings.signatures import Signature
from ..frozen import frozen
from ..suggestions import nearest

if TYPE_CHECKING:
    from .dialect import Dialect


ENTRY_POINT_GROUP = "greenstep.dialects"


def _own() -> list[str]:
    """Those in this package: the ones spoken by its parts."""
    return [dialect for file in own_files() for dialect in file.dialects]


def is_own(name: str) -> bool:
    """Whether a dialect with that name comes with this package."""
    return name in _own()


def dialect_names() -> list[str]:
    """The names of all dialects."""
    return sorted({*_own(), *(point.name for point in added(ENTRY_POINT_GROUP))})


def find_dialect(name: str) -> type[Dialect]:
    """The class of that name, loaded when it is first needed. Raises UsageFault."""
    if name in _own():  # file and class are named after it: stm32-rom is Stm32Rom in stm32_rom.py
        module = import_module(f"{__package__}.{name.replace('-', '_')}")
        own: type[Dialect] = getattr(module, name.title().replace("-", ""))
        return own
    points = [point for point in added(ENTRY_POINT_GROUP) if point.name == name]
    if not points:
        near = nearest(name, dialect_names(), 1, 0.5)
        raise usage(
            "dialect",
            f"no dialect is called '{name}'",
            f"use {near[0]}" if near else f"there are {', '.join(dialect_names())}",
        )
    found = points[0].load()
    from .dialect import Dialect

    if not (isinstance(found, type) and issubclass(found, Dialect)):
        raise usage("dialect", f"the dialect '{name}' is not a Dialect class", "update the package that adds it")
    return found


@cache
def signatures() -> dict[str, Signature]:
    """What each dialect's loader is recognised by, by the dialect's name, in the order of `all_dialects`."""
    asked = ((dialect, dialect.spec.asking) for dialect in all_dialects())
    return {
        dialect.name: Signature(dialect.title, (*asking.answers, *asking.other_answers), asking.sounds)
        for dialect, asking in asked
    }


@cache
def all_dialects() -> tuple[type[Dialect], ...]:
    """All dialects, in the order in which a search may ask them."""
    return tuple(sorted(map(find_dialect, dialect_names()), key=lambda dialect: dialect.spec.asking.order))


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
