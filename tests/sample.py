"""How much of a sweep a test makes: a small fixed sample in `make test`, all of it in `make faults`
(`python -m tests --whole`)."""

from __future__ import annotations

import os
from collections.abc import Iterable
from functools import cache
from typing import TypeVar

from greenstep.bench.boards import APIARY, BOARDS, BenchBoard
from greenstep.core.chips.catalogue import Catalogue

Row = TypeVar("Row")

VARIABLE = "TESTS_WHOLE"
WHOLE = bool(os.environ.get(VARIABLE))

# the apiary's boards are others under a name of their own
KINDS = {name: stand for name, stand in BOARDS.items() if name not in APIARY or name == "smoke-fan"}
_SLOW = ("esp8266",)
"""Its ROM is read four bytes a request."""


def some(rows: Iterable[Row], most: int) -> list[Row]:
    """At most so many of them, evenly spaced from the first on."""
    found = list(rows)
    step = 1 if WHOLE else max(1, -(-len(found) // most))
    return found[::step]


@cache
def boards_by_dialect() -> dict[str, list[str]]:
    """Simulated boards, the slow ones left out."""
    found: dict[str, list[str]] = {}
    for name, stand in KINDS.items():
        if name not in _SLOW:
            found.setdefault(stand.dialect or Catalogue.load().find(stand.chip).dialect, []).append(name)
    return found


def boards(turn: int) -> dict[str, BenchBoard]:
    """One simulated board of each dialect: another for each `turn`, so that tests share them out."""
    if WHOLE:
        return KINDS
    return {name: KINDS[name] for names in boards_by_dialect().values() for name in (names[turn % len(names)],)}
