"""What is said to the boot firmware of Renesas' RA, and by it: packets, commands, statuses, areas (R01AN5372)."""

from __future__ import annotations

from ..frozen import frozen
from .spec import ProtocolCommand

COMMAND, DATA, END = 0x01, 0x81, 0x03
"""Packets begin with one of the first two, and end with the third."""


class Command(ProtocolCommand):
    """R01AN5372, "Command list"."""

    INQUIRY = 0x00, "inquiry"
    ERASE = 0x12, "erase", "address:4 end:4"
    WRITE = 0x13, "write", "address:4 end:4"
    READ = 0x15, "read", "address:4 end:4"
    CRC = 0x18, "CRC", "address:4 end:4"
    AUTHENTICATE = 0x30, "id authentication"
    BAUD = 0x34, "baud rate setting", "baud:4"
    SIGNATURE = 0x3A, "signature"
    AREA = 0x3B, "area information"


STATUSES = {
    0xC0: "unsupported command",
    0xC1: "packet error",
    0xC2: "checksum error",
    0xC3: "flow error",
    0xD0: "address error",
    0xD4: "baud rate error",
    0xDA: "protection",
    0xDB: "id mismatch",
    0xDC: "serial programming disabled",
    0xE1: "erase error",
    0xE2: "write error",
    0xE7: "sequencer error",
}


def packet(kind: int, code: int, data: bytes = b"") -> bytes:
    """A command (01) or data (81) packet. The sum makes length, code, data and itself 0 in 8 bits."""
    body = (len(data) + 1).to_bytes(2, "big") + bytes([code]) + data
    return bytes([kind]) + body + bytes([-sum(body) & 0xFF, END])


@frozen
class Area:
    """One of the chip's areas: its kind (0 code, 1 data, 2 configuration), where it is, and its units in bytes."""

    kind: int
    start: int
    end: int
    erase: int
    write: int
