"""The frames of both PIC18 bootloaders: STX first, ETX last, DLE before bytes that would be mistaken for one of the
three.

Microchip AN851 and AN1310, "Communication protocol"; the check before ETX differs.
"""

from __future__ import annotations

from ..link import Deadline, Link
from .errors import Silence, Unexpected

STX, ETX, DLE = 0x0F, 0x04, 0x05


def stuffed(body: bytes) -> bytes:
    """Data and check as sent between STX and ETX."""
    return b"".join(bytes([DLE, byte]) if byte in (STX, ETX, DLE) else bytes([byte]) for byte in body)


def unstuffed(frame: bytes) -> bytes:
    """What follows STX up to ETX, without the DLEs."""
    data, escaped = bytearray(), False
    for byte in frame.lstrip(bytes([STX])):
        if escaped or byte not in (ETX, DLE):
            data.append(byte)
            escaped = False
        elif byte == ETX:
            break
        else:
            escaped = True
    return bytes(data)


def read_frame(link: Link, timeout_s: float, waiting_for: str, most: int, started: bool = False) -> bytes:
    """Data and check of the next frame, unstuffed. `started`: its STX was read already. Raises Silence,
    Unexpected."""
    deadline = Deadline.after(link, timeout_s)
    heard, data, escaped = b"", bytearray(), False
    while True:
        one = link.read(1, deadline.left_s)
        if not one:
            raise Silence(waiting_for, timeout_s, heard)
        heard += one
        if escaped:
            data += one
            escaped = False
        elif one[0] == STX:  # a second STX starts over: the first was an echo
            started, data = True, bytearray()
        elif started and one[0] == DLE:
            escaped = True
        elif started and one[0] == ETX:
            return bytes(data)
        elif started:
            data += one
        if len(heard) > most:
            raise Unexpected(waiting_for, heard[:40])
