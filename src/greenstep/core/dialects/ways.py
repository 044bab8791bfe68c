"""Ways that several dialects go."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from ..chips.part import EraseUnit
from .errors import Unexpected

_PLACES = 64


def in_runs(units: Sequence[EraseUnit], most: int) -> Iterator[Sequence[EraseUnit]]:
    """At most so many units at a time that lie side by side: what one command can erase."""
    first = 0
    for at in range(1, len(units) + 1):
        if at == len(units) or at - first == most or units[at - 1].end != units[at].address:
            yield units[first:at]
            first = at


def prove_by_readings(read: Callable[[int], bytes], start: int, each: int, size: int, step: int = 0) -> None:
    """Readings of `each` bytes from `start` on by `read`, `step` bytes apart (0: side by side), until there are
    `size` of them: so small that the requests are as long as the answers, and places more than once. Raises
    DialectError."""
    seen: dict[int, bytes] = {}
    for number in range(-(-size // each)):
        address = start + number % _PLACES * (step or each)
        found = read(address)
        if seen.setdefault(address, found) != found:
            raise Unexpected("the bytes read before", found)
