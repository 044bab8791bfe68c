"""SMP: packets as large as the server's buffer, in base64."""

from __future__ import annotations

from greenstep.bench.boards import BOARDS
from greenstep.bench.families import smp

from . import SIZE, Case, Floor

_AROUND = 8 + 16
"""Header, and the CBOR around the data: map, "off", its number, "data", its length."""


def floor(kind: smp.SmpKind, size: int) -> Floor:
    """Each packet has its length and CRC, four letters for three bytes, three characters more a line of 124, and an
    answer of about 28."""
    packets = -(-size // (kind.buffer - _AROUND))
    letters = -(-(kind.buffer + 4) // 3) * 4
    characters = packets * (letters + 3 * -(-letters // 124) + 39)
    return Floor(characters, packets + 1, 3.0 + size / 4 * 40e-6)


def cases() -> list[Case]:
    name = "nrf5340"  # the other one holds what was written in its second slot until it starts
    return [Case(name, name, BOARDS[name].program("", SIZE, 3), floor(smp.KINDS[name], SIZE + 512), {})]
