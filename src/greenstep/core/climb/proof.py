"""Whether the chip holds what the image has, by its own checksums or by reading."""

from __future__ import annotations

from collections.abc import Iterable

from ..chips import Memory
from ..dialects.dialect import Dialect
from ..plan import MemoryPlan
from ..spans import Span, pieces_of
from .transfer import Transfer


def sums_equal(transfer: Transfer, plan: MemoryPlan, spans: Iterable[Span]) -> bool:
    """Compare checksums that the chip can compute at once, which may cover more than the span where the image is
    blank. If they differ, the bytes of the image itself may still be equal."""
    memory, unit = plan.memory, transfer.job.dialect.checksum_unit(plan.memory)
    summed = (span.aligned(unit, memory.start) for span in spans)
    return all(transfer.dialect.checksum_equals(memory, span.start, expected(plan, span)) for span in summed)


def expected(plan: MemoryPlan, span: Span) -> bytes:
    """What the image has there; blank where it has nothing."""
    return plan.image.cut(span.start, span.size, plan.memory.erased)


def read_all(dialect: Dialect, memory: Memory, spans: Iterable[Span]) -> bytes:
    """The bytes of the spans, in order, in readings of the dialect's size."""
    places = pieces_of(spans, dialect.read_block(memory))
    return b"".join(dialect.read(memory, place.start, place.size) for place in places)


def reads_equal(transfer: Transfer, plan: MemoryPlan, spans: Iterable[Span]) -> bool:
    """Whether the chip shows the image's bytes; it is read up to the first difference."""
    places = pieces_of(spans, transfer.dialect.read_block(plan.memory))
    return all(
        transfer.dialect.read(plan.memory, place.start, place.size) == expected(plan, place) for place in places
    )
