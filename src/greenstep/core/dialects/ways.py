"""Ways that several dialects go."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from ..chips.part import EraseUnit


def in_runs(units: Sequence[EraseUnit], most: int) -> Iterator[Sequence[EraseUnit]]:
    """At most so many units at a time that lie side by side: what one command can erase."""
    first = 0
    for at in range(1, len(units) + 1):
        if at == len(units) or at - first == most or units[at - 1].end != units[at].address:
            yield units[first:at]
            first = at
