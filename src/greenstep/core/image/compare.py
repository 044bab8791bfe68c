"""Two images compared: which bytes differ, and which only one of them holds."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from itertools import pairwise
from typing import Literal

from ..frozen import frozen
from .model import Image

How = Literal["differs", "only-a", "only-b"]


@frozen
class ByteDifference:
    """A run of bytes, `start` to before `end`, that differ throughout, or that one image alone holds; `blank`: all of
    them are erased bytes, so that a chip would not tell the two images apart."""

    start: int
    end: int
    how: How
    blank: bool = False

    @property
    def size(self) -> int:
        return self.end - self.start


@frozen
class Comparison:
    """`runs` are in order of address; `equal_bytes` is how many bytes both hold and agree on."""

    a: Image
    b: Image
    runs: tuple[ByteDifference, ...]
    equal_bytes: int

    @property
    def same(self) -> bool:
        """Whether a chip would hold the same after either; blank bytes that only one of them names do not count."""
        return all(run.blank for run in self.runs)

    def total(self, how: How) -> int:
        return sum(run.size for run in self.runs if run.how == how)

    @property
    def blank_bytes(self) -> int:
        """Blank bytes that only one of the two holds."""
        return sum(run.size for run in self.runs if run.blank)


def compare(a: Image, b: Image, erased: int = 0xFF) -> Comparison:
    """Every byte of both, at its address. `erased` is the value of a blank byte."""
    runs: list[ByteDifference] = []
    equal = 0
    edges = sorted({edge for image in (a, b) for piece in image.pieces for edge in (piece.address, piece.end)})
    for low, high in pairwise(edges):
        in_a, in_b = a.covers(low, high - low), b.covers(low, high - low)
        if in_a and in_b:
            found = list(_differing(a.cut(low, high - low, 0), b.cut(low, high - low, 0), low))
            runs += found
            equal += high - low - sum(run.size for run in found)
        elif in_a or in_b:
            held = (a if in_a else b).cut(low, high - low, 0)
            runs += _lone(held, low, "only-a" if in_a else "only-b", erased)
    return Comparison(a, b, tuple(_joined(runs)), equal)


def _differing(one: bytes, other: bytes, address: int) -> Iterator[ByteDifference]:
    if one == other:
        return
    unlike = (int.from_bytes(one, "big") ^ int.from_bytes(other, "big")).to_bytes(len(one), "big")
    for run in re.finditer(rb"[^\x00]+", unlike):
        yield ByteDifference(address + run.start(), address + run.end(), "differs")


def _lone(held: bytes, address: int, how: How, erased: int) -> Iterator[ByteDifference]:
    """Bytes that only one image holds: split where 16 or more of them are blank."""
    if not held.strip(bytes([erased])):
        yield ByteDifference(address, address + len(held), how, blank=True)
        return
    at = 0
    for blank in re.finditer(re.escape(bytes([erased])) + b"{16,}", held):
        low, high = blank.span()
        if low > at:
            yield ByteDifference(address + at, address + low, how)
        yield ByteDifference(address + low, address + high, how, blank=True)
        at = high
    if at < len(held):
        yield ByteDifference(address + at, address + len(held), how)


def _joined(runs: Iterable[ByteDifference]) -> Iterator[ByteDifference]:
    """Runs of one kind that touch, merged."""
    last: ByteDifference | None = None
    for run in runs:
        if last is not None and last.end == run.start and (last.how, last.blank) == (run.how, run.blank):
            last = ByteDifference(last.start, run.end, run.how, run.blank)
            continue
        if last is not None:
            yield last
        last = run
    if last is not None:
        yield last
