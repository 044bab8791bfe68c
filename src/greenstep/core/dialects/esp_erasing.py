"""What an ESP's ROM erases when told to begin a write. The ESP8266's counts the sectors up to the next 64 KiB block
twice (`twice`), and so erases more or less than it is asked for."""

from __future__ import annotations

from collections.abc import Sequence

from ..spans import Span
from .results import WriteBlock

SECTOR, SECTORS_A_BLOCK = 0x1000, 16


def runs_of(blocks: Sequence[WriteBlock]) -> list[tuple[int, bytes]]:
    """(address, bytes) of blocks that follow each other without a gap: each run takes one begin command."""
    runs: list[tuple[int, bytearray]] = []
    for block in blocks:
        if runs and runs[-1][0] + len(runs[-1][1]) == block.address:
            runs[-1][1].extend(block.data)
        else:
            runs.append((block.address, bytearray(block.data)))
    return [(address, bytes(data)) for address, data in runs]


def size_to_ask_for(span: Span, twice: bool) -> int:
    """What to ask for so that a span is erased, in bytes."""
    count = -(-span.size // SECTOR)
    if not twice:
        return count * SECTOR
    head = _counted_twice(span.start, count)
    return ((count + 1) // 2 if count < 2 * head else count - head) * SECTOR


def begun_apart(span: Span, twice: bool) -> list[Span]:
    """The begin commands, in order, with which these sectors are erased and none after them. If one more would be
    erased, the first sector is begun alone: what that erases along belongs to the rest."""
    if not twice or span.size <= SECTOR or erased_up_to(span.start, span.end) <= span.end:
        return [span]
    return [Span.of(span.start, SECTOR), Span(span.start + SECTOR, span.end)]


def erased_up_to(low: int, high: int) -> int:
    """The end address of what the ESP8266's ROM erases for these sectors: an even number if everything asked for is
    counted twice."""
    count = -(-(high - low) // SECTOR)
    return high if count >= 2 * _counted_twice(low, count) else low + (count + count % 2) * SECTOR


def _counted_twice(start: int, count: int) -> int:
    """How many of `count` sectors lie before the next 64 KiB block."""
    return min(SECTORS_A_BLOCK - start // SECTOR % SECTORS_A_BLOCK, count)
