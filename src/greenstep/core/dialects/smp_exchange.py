"""SMP packets on a serial line (SMP specification, "SMP over console"): a header of 8 bytes and a CBOR map, with a
length and a CRC-16 (polynomial 1021, from 0) around them, in base64, in lines of at most 127 characters. The first
line begins with 06 09, further ones with 04 14. Logs of a program may stand between them.

Questions to an SMP server and their answers (the published SMP specification, and its serial transport)."""

from __future__ import annotations

from base64 import b64decode, b64encode
from binascii import Error, crc_hqx
from collections.abc import Mapping
from functools import partial
from typing import Any, ClassVar

from ..frozen import frozen
from ..link import Deadline, Link
from .dialect import Dialect
from .errors import ChipRefusal, RefusalKind, Silence
from .line import drain
from .spec import ProtocolCommand

FIRST, FURTHER = b"\x06\x09", b"\x04\x14"
READ, READ_ANSWER, WRITE, WRITE_ANSWER = range(4)
HEADER_BYTES = 8
_LINE_LETTERS = 124
OS, IMAGE = 0, 1


class Command(ProtocolCommand):
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


TRIES = 5
_QUIET_S, _LOOKS_EVERY_S = 0.03, 4.0
_NOT_KNOWN = 8
_SAID = {
    1: "unknown", 2: "no memory", 3: "invalid", 4: "time-out", 5: "no entry", 6: "bad state", 7: "too large",
    8: "not supported", 9: "corrupt", 10: "busy", 11: "denied",
}  # fmt: skip
_KINDS = {3: RefusalKind.BAD_DATA, 9: RefusalKind.BAD_DATA, 11: RefusalKind.LOCKED}


def encoded(values: Mapping[str, Any]) -> bytes:
    from cbor2 import dumps  # takes its time to load

    return dumps(values)


def decoded(body: bytes) -> dict[str, Any] | None:
    """The map; None if it is none."""
    from cbor2 import CBORDecodeError, loads

    try:
        values = loads(body)
    except (CBORDecodeError, ValueError):
        return None
    return values if isinstance(values, dict) else None


class SmpExchange(Dialect):
    """The conversation by packets. Each answer carries its question's number, so that a late one does no harm."""

    answer_s: ClassVar[float] = 0.5

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._number = 0

    def _send(self, op: int, command: Command, body: bytes) -> int:
        """Send a packet. Returns its number."""
        self._number = (self._number + 1) & 0xFF
        self.link.write(in_lines(Packet(op, command, self._number, body)))
        return self._number

    def _receive(self, wanted: Mapping[int, tuple[int, Command]], wait_s: float) -> tuple[int, dict[str, Any]]:
        """The first answer to one of the packets, by (number) -> (op, command). Raises Silence, ChipRefusal."""
        deadline = Deadline.after(self.link, wait_s)
        lines, line = Collector(), b""
        while not deadline.over:
            more = self.link.read(1, deadline.left_s)
            line += more
            if more != b"\n":
                continue
            packet, line = lines.take(line), b""
            if packet is None or wanted.get(packet.number) != (packet.op - 1, packet.command):
                continue
            values = decoded(packet.body)
            if values is not None:
                self._must_succeed(wanted[packet.number][1], values)
                return packet.number, values
        raise Silence(f"answer to '{next(iter(wanted.values()))[1].words}'", wait_s)

    def once(self, op: int, command: Command, body: bytes) -> dict[str, Any]:
        """A packet and the answer with its number. Raises Silence, ChipRefusal."""
        self.link.discard()
        number = self._send(op, command, body)
        return self._receive({number: (op, command)}, self._usual_s(body))[1]

    def _usual_s(self, body: bytes) -> float:
        return self.link.settings.seconds(len(body) * 3 // 2 + 240) + self.patience_s

    def again(
        self, op: int, command: Command, body: bytes, longest_s: float = 0.0, tries: int = TRIES
    ) -> dict[str, Any]:
        """The same where it may be repeated: it does the same each time."""
        once = partial(self._slow_one if longest_s else self.once, op, command, body)
        return self.exchange(partial(once, longest_s) if longest_s else once, self.recover, tries)

    def _slow_one(self, op: int, command: Command, body: bytes, longest_s: float) -> dict[str, Any]:
        """A packet whose answer may take long, because a slot is erased first. Requests are answered in their order:
        if a later question is answered and this one was not, it was lost. Raises Silence, ChipRefusal."""
        self.link.discard()
        number = self._send(op, command, body)
        wanted = {number: (op, command)}
        deadline = Deadline.after(self.link, longest_s)
        wait_s = self._usual_s(body)
        while not deadline.over:
            try:
                answered, values = self._receive(wanted, wait_s)
            except Silence:
                self.link.write(b"\n")
                wanted[self._send(READ, Command.STATE, b"\xa0")] = (READ, Command.STATE)
                wait_s = _LOOKS_EVERY_S
                continue
            if answered == number:
                return values
            break
        raise Silence(f"answer to '{command.words}'", longest_s)

    def recover(self, heard: bytes) -> None:
        """An end of line ends whatever was begun; an answer that comes late is known by its number."""
        self.link.write(b"\n")
        drain(self.link, _QUIET_S)

    @staticmethod
    def _must_succeed(command: Command, values: Mapping[str, Any]) -> None:
        """Raises ChipRefusal."""
        error = values.get("err")
        status = error.get("rc", 1) if isinstance(error, dict) else values.get("rc", 0)
        if status:
            kind = RefusalKind.UNSUPPORTED if status == _NOT_KNOWN else _KINDS.get(status, RefusalKind.UNSUPPORTED)
            raise ChipRefusal(
                command.words,
                kind,
                bytes([int(status) & 0xFF]),
                None,
                f"rc {status}, {_SAID.get(status, 'not known')},",
            )
