"""SMP packets on a serial line (SMP specification, "SMP over console"): a header of 8 bytes and a CBOR map, with a
length and a CRC-16 (polynomial 1021, from 0) around them, in base64, in lines of at most 127 characters. The first
line begins with 06 09, further ones with 04 14. Logs of a program may stand between them."""

from __future__ import annotations

from base64 import b64decode, b64encode
from binascii import Error, crc_hqx

from ..frozen import frozen
from . import commands

FIRST, FURTHER = b"\x06\x09", b"\x04\x14"
READ, READ_ANSWER, WRITE, WRITE_ANSWER = range(4)
HEADER_BYTES = 8
_LINE_LETTERS = 124
OS, IMAGE = 0, 1


class Command(commands.Command):
    """Group and number of a command: 256 times the group, and the number."""

    ECHO = 0x000, "echo"
    RESET = 0x005, "reset"
    PARAMETERS = 0x006, "parameters"
    OS_INFO = 0x007, "os info"
    STATE = 0x100, "image state"
    UPLOAD = 0x101, "upload"
    ERASE = 0x105, "erase slot"


@frozen
class Packet:
    """`body` is the CBOR map as sent."""

    op: int
    command: int
    number: int
    body: bytes

    @property
    def raw(self) -> bytes:
        group, index = divmod(self.command, 256)
        head = bytes([self.op, 0]) + len(self.body).to_bytes(2, "big") + group.to_bytes(2, "big")
        return head + bytes([self.number, index]) + self.body

    @classmethod
    def of(cls, raw: bytes) -> Packet | None:
        """None if it is none."""
        if len(raw) < HEADER_BYTES or len(raw) != HEADER_BYTES + int.from_bytes(raw[2:4], "big"):
            return None
        return cls(raw[0] & 7, int.from_bytes(raw[4:6], "big") * 256 + raw[7], raw[6], raw[8:])


def in_lines(packet: Packet) -> bytes:
    raw = packet.raw
    letters = b64encode((len(raw) + 2).to_bytes(2, "big") + raw + crc_hqx(raw, 0).to_bytes(2, "big"))
    lines = [letters[at : at + _LINE_LETTERS] for at in range(0, len(letters), _LINE_LETTERS)]
    return b"".join((FURTHER if at else FIRST) + line + b"\n" for at, line in enumerate(lines))


def letters_of(line: bytes, begun: bool) -> bytes | None:
    """The base64 letters of a line, in which a program's text may come first; None if it has none."""
    for mark in (FIRST, FURTHER) if begun else (FIRST,):
        at = line.find(mark)
        if at >= 0:
            return line[at + 2 :].strip(b"\r\n")
    return None


class Collector:
    """Makes packets of lines; what does not belong to one is passed over."""

    def __init__(self) -> None:
        self._letters, self._begun = b"", False

    def take(self, line: bytes) -> Packet | None:
        """The packet that a line completes; None if it completes none, or a damaged one."""
        found = letters_of(line, self._begun)
        if found is None:
            return None
        self._letters = self._letters + found if self._begun else found
        try:
            packet = packet_of(self._letters)
        except ValueError:
            self._letters, self._begun = b"", False
            return None
        self._begun = packet is None
        return packet


def packet_of(letters: bytes) -> Packet | None:
    """The packet of all letters so far; None while it is not whole. Raises ValueError if it is damaged."""
    try:
        data = b64decode(letters[: len(letters) // 4 * 4], validate=True)
    except Error as error:
        raise ValueError(str(error)) from None
    if len(data) < 2 or len(data) < 2 + int.from_bytes(data[:2], "big"):
        return None
    raw, end = data[2:-2], data[-2:]
    packet = Packet.of(raw)
    if packet is None or crc_hqx(raw, 0) != int.from_bytes(end, "big"):
        raise ValueError("the CRC is wrong")
    return packet
