"""Whether the chip holds what the image has, by its own checksums or by reading."""

from __future__ import annotations

from collections.abc import Iterable

from ..chips import Memory
from ..dialects.dialect import Dialect
from ..plan import MemoryPlan
from ..spans import Span, pieces_of
from .transfer import Transfer


def sums_equal(transfer: Transfer, plan: MemoryPlan, spans: Iterable[Span]) -> bool:
    """By what the chip can sum at once, which may reach beyond a span to where the image is blank. What is unequal
    may still be equal where the image lies."""
    memory, unit = plan.memory, transfer.job.dialect.checksum_unit(plan.memory)
    summed = (span.aligned(unit, memory.start) for span in spans)
    return all(transfer.dialect.checksum_equals(memory, span.start, expected(plan, span)) for span in summed)


def expected(plan: MemoryPlan, span: Span) -> bytes:
    """What the image has there, blank where it has nothing."""
    return plan.image.cut(span.start, span.size, plan.memory.erased)


def read_all(dialect: Dialect, memory: Memory, spans: Iterable[Span]) -> bytes:
    """The bytes of the spans, one after the other, in readings of the dialect's size."""
    places = pieces_of(spans, dialect.read_block(memory))
    return b"".join(dialect.read(memory, place.start, place.size) for place in places)


def reads_equal(transfer: Transfer, plan: MemoryPlan, spans: Iterable[Span]) -> bool:
    """Whether the chip shows the image's bytes; it is read up to the first reading that differs."""
    places = pieces_of(spans, transfer.dialect.read_block(plan.memory))
    return all(
        transfer.dialect.read(plan.memory, place.start, place.size) == expected(plan, place) for place in places
    )
