"""Whether the chip's own checksums are those of the image."""

from __future__ import annotations

from collections.abc import Iterable

from ..plan import MemoryPlan
from .transfer import Transfer


def sums_equal(transfer: Transfer, plan: MemoryPlan, spans: Iterable[tuple[int, int]]) -> bool:
    """By what the chip can sum at once, which may reach beyond a span (address, size) to where the image is blank.
    What is unequal may still be equal where the image lies."""
    unit = transfer.job.dialect.checksum_unit(plan.memory)
    for address, size in spans:
        low = plan.memory.start + (address - plan.memory.start) // unit * unit
        high = plan.memory.start - (plan.memory.start - address - size) // unit * unit
        data = plan.image.cut(low, high - low, plan.memory.erased)
        if not transfer.dialect.checksum_equals(plan.memory, low, data):
            return False
    return True
