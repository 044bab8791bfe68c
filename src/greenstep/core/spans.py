"""Runs of addresses, and operations on several of them: merge, cut, subtract."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Sequence

from .frozen import frozen
from .quantities import show_span


@frozen
class Span:
    """The addresses from `start` to before `end`, in bytes."""

    start: int
    end: int

    @classmethod
    def of(cls, address: int, size: int) -> Span:
        """`size` bytes from `address`."""
        return cls(address, address + size)

    @property
    def size(self) -> int:
        """In bytes; 0 or less for an empty one."""
        return self.end - self.start

    def __str__(self) -> str:
        """First and last address, as shown to a person."""
        return show_span(self.start, self.size)

    def meets(self, other: Span) -> bool:
        """Whether the two have an address in common."""
        return self.start < other.end and other.start < self.end

    def covers(self, other: Span) -> bool:
        """Whether every address of the other is in it."""
        return self.start <= other.start and other.end <= self.end

    def shared(self, other: Span) -> Span:
        """What both have in common; of size 0 or less if they do not meet."""
        return Span(max(self.start, other.start), min(self.end, other.end))

    def aligned(self, unit: int, base: int = 0) -> Span:
        """Widened to whole units of this many bytes, counted from `base`."""
        return Span(base + (self.start - base) // unit * unit, base - (base - self.end) // unit * unit)

    def pieces(self, size: int) -> Iterator[Span]:
        """Cut into spans of at most `size` bytes, from its start on."""
        return (Span(at, min(at + size, self.end)) for at in range(self.start, self.end, size))


def total(spans: Iterable[Span]) -> int:
    """Bytes in all of them, which do not overlap."""
    return sum(span.size for span in spans)


def merged(spans: Iterable[Span], gap: int = 0) -> list[Span]:
    """In order and disjoint: those that overlap, meet, or leave at most `gap` bytes between them are merged."""
    apart: list[Span] = []
    for span in sorted(spans, key=lambda span: span.start):
        if apart and span.start <= apart[-1].end + gap:
            apart[-1] = Span(apart[-1].start, max(span.end, apart[-1].end))
        else:
            apart.append(span)
    return apart


def without(spans: Iterable[Span], holes: Iterable[Span]) -> list[Span]:
    """What of the spans is in none of the holes."""
    apart = merged(holes)
    ends = [hole.end for hole in apart]
    left = []
    for span in spans:
        at = span.start
        for hole in apart[bisect_right(ends, at) :]:
            if hole.start >= span.end:
                break
            if hole.start > at:
                left.append(Span(at, hole.start))
            at = hole.end
        if at < span.end:
            left.append(Span(at, span.end))
    return left


def shared(spans: Iterable[Span], others: Sequence[Span]) -> list[Span]:
    """What of each span is in one of the others."""
    return [part for span in spans for other in others if (part := span.shared(other)).size > 0]


def pieces_of(spans: Iterable[Span], size: int) -> Iterator[Span]:
    """All of them, each cut into spans of at most `size` bytes."""
    return (piece for span in spans for piece in span.pieces(size))


class Covered:
    """Spans in which addresses are looked up many times."""

    def __init__(self, spans: Iterable[Span]) -> None:
        self._apart = merged(spans)
        self._starts = [span.start for span in self._apart]

    def covers(self, span: Span) -> bool:
        """Whether every address of a span is in them."""
        index = bisect_right(self._starts, span.start) - 1
        return index >= 0 and span.end <= self._apart[index].end
