"""How SAM-BA moves bytes to and from RAM: by XMODEM with CRC over a UART, as they are over USB.

Which of the two it is, a chip shows when it is told to send: over USB the bytes come at once.
"""

from __future__ import annotations

from binascii import crc_hqx

from ..link import Deadline, Link
from .errors import Silence, Unexpected
from .line import drain, read_exactly

SOH, EOT, ACK, NAK, CAN, CALL = 0x01, 0x04, 0x06, 0x15, 0x18, 0x43
BLOCK = 128
_TRIES, _QUIET_S, _CALL_S = 5, 0.03, 1.2


def send(link: Link, data: bytes, patience_s: float) -> int:
    """To a chip that was told to receive: after its call, block by block. Returns how often something had to be
    repeated. Raises Silence, Unexpected."""
    deadline = Deadline.after(link, _CALL_S + patience_s)
    while link.read(1, deadline.left_s) != bytes([CALL]):
        if deadline.over:
            raise Silence("43 after 'send file'", _CALL_S + patience_s)
    repeated = 0
    for number, at in enumerate(range(0, len(data), BLOCK), 1):
        block = data[at : at + BLOCK].ljust(BLOCK, b"\x00")
        head = bytes([SOH, number & 0xFF, ~number & 0xFF])
        repeated += _until_acknowledged(
            link, head + block + crc_hqx(block, 0).to_bytes(2, "big"), f"block {number}", patience_s
        )
    return repeated + _until_acknowledged(link, bytes([EOT]), "end of file", patience_s)


def _until_acknowledged(link: Link, sent: bytes, name: str, patience_s: float) -> int:
    """Send until it is acknowledged. A call is one that was on its way."""
    for attempt in range(_TRIES):
        link.discard()
        link.write(sent)
        deadline = Deadline.after(link, link.settings.seconds(len(sent) + 1) + patience_s)
        while True:
            heard = link.read(1, deadline.left_s)
            if heard == bytes([ACK]):
                return attempt
            if heard != bytes([CALL]) or deadline.over:
                break
        if heard and heard != bytes([NAK]):
            raise Unexpected(f"answer to {name}", heard + drain(link, _QUIET_S))
        if not heard:
            raise Silence(f"answer to {name}", patience_s)
    raise Unexpected(f"ACK to {name}", bytes([NAK]))


def receive(link: Link, size: int, patience_s: float) -> bytes:
    """From a chip that was told to send, by XMODEM. Raises Silence, Unexpected."""
    data, number = b"", 1
    link.write(bytes([CALL]))
    while True:
        deadline = Deadline.after(link, link.settings.seconds(BLOCK + 5) + patience_s)
        head = link.read(1, deadline.left_s)
        if not head:
            raise Silence(f"block {number}", patience_s)
        if head == bytes([EOT]):
            link.write(bytes([ACK]))
            if len(data) < size:
                raise Unexpected(f"{size} bytes", data[:40])
            return data[:size]
        if head != bytes([SOH]):
            raise Unexpected(f"block {number}", head + drain(link, _QUIET_S))
        rest = read_exactly(link, 2 + BLOCK + 2, max(0.1, deadline.left_s), f"block {number}")
        block, check = rest[2:-2], rest[-2:]
        if rest[:2] != bytes([number & 0xFF, ~number & 0xFF]) or crc_hqx(block, 0).to_bytes(2, "big") != check:
            raise Unexpected(f"block {number}", rest[:40])
        data, number = data + block, number + 1
        link.write(bytes([ACK]))
