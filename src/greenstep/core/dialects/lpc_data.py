"""How data gets into the RAM of an LPC and from there into its flash: encoded lines, copies, runs of sectors."""

from __future__ import annotations

import binascii
from collections.abc import Sequence

from ..chips import EraseUnit, Part
from .cost import Cost

COPY_SIZES = (4096, 1024, 512, 256, 128, 64)
"""Byte counts that 'copy RAM to flash' accepts, if the part's own limits allow them."""
LINE_BYTES, LINES_A_SUM = 45, 20


def uu_line(data: bytes) -> bytes:
    """One line of at most 45 bytes, zero written as '`'."""
    return binascii.b2a_uu(data, backtick=True).rstrip(b"\n") + b"\r\n"


def uu_length(first: int) -> int:
    """The length of a line including its end, from its first character."""
    return 1 + -(-(first - 32 & 63) // 3) * 4 + 2


def cost_of_data(part: Part, size: int) -> Cost:
    """The cost of sending `size` bytes to the RAM."""
    if not part.extra["uu"]:
        return Cost(size, 4, 1)
    lines = -(-size // LINE_BYTES)
    sums = -(-lines // LINES_A_SUM)
    return Cost(3 * lines + -(-size // 3) * 4 + 8 * sums, 4 * sums, sums)


def copies_of(part: Part, address: int, size: int) -> list[tuple[int, int]]:
    """(offset, size) of copies that the ROM accepts, the largest first."""
    largest = part.flash.block or COPY_SIZES[0]
    copies, at = [], 0
    while at < size:
        fitting = next(s for s in COPY_SIZES if s <= min(largest, size - at))
        copies.append((at, fitting))
        at += fitting
    return copies


def neighbours(units: Sequence[EraseUnit]) -> list[tuple[int, int, list[int]]]:
    """(first, last, sizes) of sectors whose numbers follow each other."""
    runs: list[tuple[int, int, list[int]]] = []
    for unit in units:
        if runs and runs[-1][1] + 1 == unit.number:
            runs[-1] = (runs[-1][0], unit.number, [*runs[-1][2], unit.size])
        else:
            runs.append((unit.number, unit.number, [unit.size]))
    return runs
