"""`msp430-slau550`: the bootstrap loader of MSP430 5xx, 6xx and FR parts (TI SLAU319, SLAU550).

Frames with a CRC-16 over what they hold; each is acknowledged by one character, and mostly answered by a frame. The
loader computes a CRC-16 over its memory, which proves what was written.
"""

from __future__ import annotations

from binascii import crc_hqx
from collections.abc import Iterator, Sequence
from dataclasses import replace
from functools import partial
from typing import ClassVar

from ..chips.part import EraseUnit, Memory, Part
from ..link import Deadline
from ..quantities import show_bytes
from ..spans import Span
from .abilities import PROOF_BYTES, ChangesRate, Checksums, ProvesRate
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected
from .framing import Framing, headed
from .line import drain, read_exactly, read_until, refuse_text
from .msp430 import BAUD, ENTERING, PASSWORD_BYTES, SETTINGS, Msp430Dialect
from .results import Identity, WriteBlock, refuse_another
from .spec import Asking, Attempt, Cost, CostRow, Costs, Erasing, ProtocolCommand, Spec, Starting, sum_costs


class Command(ProtocolCommand):
    """SLAU319, "5xx and 6xx BSL", SLAU550, "BSL core commands"."""

    WRITE = 0x10, "receive data block", "address:3 data"
    PASSWORD = 0x11, "receive password"
    MASS_ERASE = 0x15, "mass erase"
    CRC = 0x16, "CRC check", "at:3 size:2"
    GO = 0x17, "load PC"
    READ = 0x18, "transmit data block", "at:3 size:2"
    VERSION = 0x19, "transmit BSL version"
    RATE = 0x52, "change baud rate"


_HEAD, _ACK, _DATA, _MESSAGE, _NO_SUCH_RATE = 0x80, 0x00, 0x3A, 0x3B, 0x56
ACKS = {0x51: "header", 0x52: "checksum", 0x53: "size 0", 0x54: "too long", 0x55: "unknown", 0x56: "baud rate"}
MESSAGES = {
    0: "ok",
    1: "write check failed",
    2: "check failed",
    4: "locked",
    5: "password error",
    7: "unknown command",
}
_OK, _LOCKED = 0, 4
_KINDS = {_LOCKED: RefusalKind.LOCKED, 5: RefusalKind.LOCKED, 7: RefusalKind.UNSUPPORTED}
_RATES = {9600: 2, 19200: 3, 38400: 4, 57600: 5, 115200: 6}
_RESET_VECTOR, _DEVICE_AT = 0xFFFE, 0x1A04
_BLOCK, _SUMMED, _LONGEST, _PROOF_ASK = 240, 4096, 264, 6
_CRC_BYTE_S, _MASS_LONGEST_S = 5e-6, 6.0
_QUIET_S, _TRIES = 0.03, 4


def crc16(data: bytes) -> bytes:
    """CRC-16-CCITT from FFFF, lowest byte first."""
    return crc_hqx(data, 0xFFFF).to_bytes(2, "little")


def framed(core: bytes) -> bytes:
    return bytes([_HEAD]) + len(core).to_bytes(2, "little") + core + crc16(core)


def _place(address: int) -> bytes:
    return address.to_bytes(3, "little")


def _answered(command: Command, sent: bytes, heard: bytes) -> str:
    """What a message says that is not ok, for a recording."""
    refused = len(heard) > 5 and heard[4] == _MESSAGE and heard[5]
    return MESSAGES.get(heard[5], show_bytes(heard, 8)) if refused else ""


class Msp430Slau550(Msp430Dialect, ChangesRate, Checksums, ProvesRate):
    """The conversation with one chip."""

    name: ClassVar[str] = "msp430-slau550"
    title: ClassVar[str] = "MSP430 5xx/FR bootstrap loader"
    document: ClassVar[str] = "TI SLAU319, SLAU550"
    decoder: ClassVar[Framing] = Framing(
        Command, partial(headed, head=b"\x80", place=3, check_bytes=2), digits=5, answered=_answered
    )
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=framed(bytes([Command.VERSION])),
            attempts=(Attempt(0.02, 2), Attempt(0.1, 2), Attempt(0.3, 2)),
            wait_s=0.15,
            order=34,
            at_baud=BAUD,
            entering=ENTERING,
        ),
        erasing=Erasing.ALL_AT_ONCE,
        starting=Starting.RESET,
        erases_alone=True,
        guards_writes=True,
        gives_up=False,
        rates=tuple(_RATES),
        tells_chip=False,
        settings=SETTINGS,
        costs=Costs(block=_BLOCK, write=CostRow(9, 8), read=CostRow(11, 7)),
    )

    # --- frames

    def _acknowledged(self, command: Command, deadline: Deadline) -> None:
        """00 after a frame. Raises Silence, Unexpected; ChipRefusal for a rate that it does not know."""
        heard = self.link.read(1, deadline.left_s)
        if not heard:
            raise Silence(f"00 after '{command.words}'", self.patience_s)
        if heard[0] == _NO_SUCH_RATE and command is Command.RATE:
            raise ChipRefusal(command.words, RefusalKind.UNSUPPORTED, heard)
        if heard[0] != _ACK:
            raise Unexpected(f"00 after '{command.words}'", heard + drain(self.link, _QUIET_S))

    def _frame(self, command: Command, deadline: Deadline) -> bytes:
        """What a frame from the chip holds behind its kind: data, or nothing for message 0. Raises DialectError."""
        waiting_for = f"answer to '{command.words}'"
        head = self.link.read(3, deadline.left_s)
        if not head:
            raise Silence(waiting_for, self.patience_s)
        size = int.from_bytes(head[1:3], "little")
        if len(head) < 3 or head[0] != _HEAD or not 0 < size <= _LONGEST:
            raise Unexpected(waiting_for, head + drain(self.link, _QUIET_S))
        rest_s = self.link.settings.seconds(size + 2) + max(0.1, deadline.left_s)
        rest = read_exactly(self.link, size + 2, rest_s, waiting_for)
        core = rest[:-2]
        if rest[-2:] != crc16(core):
            raise Unexpected(waiting_for, rest[:40])
        if core[0] == _MESSAGE and len(core) == 2:
            if core[1] != _OK:
                said = f"{core[1]:02X}, {MESSAGES.get(core[1], 'not known')},"
                raise ChipRefusal(command.words, _KINDS.get(core[1], RefusalKind.BAD_DATA), core, None, said)
            return b""
        if core[0] != _DATA:
            raise Unexpected(waiting_for, core[:40])
        return core[1:]

    def _request(self, command: Command, data: bytes = b"", answer: int = 2, longest_s: float = 0.0) -> bytes:
        """A command and what it is answered by: `answer` bytes behind the kind at most."""
        self.link.discard()
        sent = framed(bytes([command]) + data)
        self.link.write(sent)
        wait_s = self.link.settings.seconds(len(sent) + answer + 7) + self.patience_s + longest_s
        deadline = Deadline.after(self.link, wait_s)
        self._acknowledged(command, deadline)
        return self._frame(command, deadline)

    def _with_retry(self, command: Command, data: bytes = b"", answer: int = 2, longest_s: float = 0.0) -> bytes:
        """The same where it may be repeated."""
        return self.exchange(lambda: self._request(command, data, answer, longest_s), self._recover, _TRIES)

    def _recover(self, heard: bytes) -> None:
        """Complete half a frame by zeros, and let pass what may still come: answers have no number, and 'locked' may
        answer anything. Then it must tell its version, or that this is locked. Raises DialectError."""
        refuse_text("answer", heard + drain(self.link, 2 * _QUIET_S))
        for attempt in range(_TRIES):
            self.link.write(bytes(_LONGEST))
            wait_s = self.link.settings.seconds(_LONGEST) + self.patience_s
            read_until(self.link, Deadline.after(self.link, wait_s))
            try:
                self._version()
                return
            except (Silence, Unexpected):
                if attempt == _TRIES - 1:
                    raise

    def _version(self) -> bytes:
        """Four bytes; none if that is not told before the password."""
        try:
            told = self._request(Command.VERSION, answer=4)
        except ChipRefusal as refusal:
            if refusal.kind is not RefusalKind.LOCKED:
                raise
            return b""
        if len(told) != 4:
            raise Unexpected("version", told)
        return told

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """Its version, or that it is locked, each in a frame with a CRC."""
        try:
            with self.waiting(self.probe_timeout(wait_s)):
                told = self._version()
        except (Silence, Unexpected, ChipRefusal):
            drain(self.link, _QUIET_S, wait_s)
            return None
        if self.asked > 1:  # what answers an earlier question is still to come
            read_until(self.link, Deadline.after(self.link, self.patience_s))
        return f"version {show_bytes(told)}" if told else "locked, to its version"

    def identify(self) -> Identity:
        told = self.exchange(self._version, self._recover, _TRIES)
        version = ".".join(f"{byte:02X}" for byte in told) or "not told"
        return Identity(None, f"loader {version}", (("loader", version),))

    def move_to_rate(self, part: Part, baud: int) -> None:
        """To the highest rate of its table that is not above it. Only acknowledged."""
        baud = max((rate for rate in _RATES if rate <= baud), default=min(_RATES))
        self.link.discard()
        sent = framed(bytes([Command.RATE, _RATES[baud]]))
        self.link.write(sent)
        wait_s = self.link.settings.seconds(len(sent) + 1) + self.patience_s
        self._acknowledged(Command.RATE, Deadline.after(self.link, wait_s))
        self.link.configure(replace(self.link.settings, baud=baud))
        self.link.sleep(0.01)
        self.exchange(self._version, self._recover, _TRIES)

    def prove_rate(self, part: Part, size: int = PROOF_BYTES) -> None:
        """Its version, asked again and again: questions and answers carry a CRC."""
        for _ in range(-(-size // _PROOF_ASK)):
            self._version()

    def _send_password(self, password: bytes) -> None:
        """Each time that a wrong one is sent erases."""
        self._with_retry(Command.PASSWORD, password, longest_s=_MASS_LONGEST_S)

    def _look_who_it_is(self) -> None:
        """The device descriptor (SLAU208, "Device descriptor table"): its number belongs to one part only."""
        try:
            told = int.from_bytes(self._with_retry(Command.READ, _place(_DEVICE_AT) + b"\x02\x00", 2), "little")
        except ChipRefusal:  # a loader that does not show it
            return
        refuse_another(self.part, self.name, told, self.also_accepts)

    @classmethod
    def _loses(cls, part: Part) -> str:
        if part.extra.get("fram"):
            return "an upload erases all of the chip; whether that takes the information memory is not known for sure"
        return "an upload erases all of the program's flash; information memory stays"

    # --- proof

    @classmethod
    def checksum_unit(cls, memory: Memory) -> int:
        return 2

    def checksum_equals(self, memory: Memory, address: int, data: bytes) -> bool:
        """In runs of 4 KiB."""
        self._unlock()
        for place in Span.of(address, len(data)).pieces(_SUMMED):
            where = _place(place.start) + place.size.to_bytes(2, "little")
            told = self._with_retry(Command.CRC, where, longest_s=4 * place.size * _CRC_BYTE_S)
            if told != crc16(data[place.start - address :][: place.size]):
                return False
        return True

    def read(self, memory: Memory, address: int, size: int) -> bytes:
        self._unlock()
        data = b""
        for place in Span.of(address, size).pieces(_BLOCK):
            where = _place(place.start) + place.size.to_bytes(2, "little")
            found = self._with_retry(Command.READ, where, place.size)
            if len(found) != place.size:
                raise Unexpected(f"{place.size} bytes", found[:40])
            data += found
        return data

    # --- erasing and writing

    def _mass_erase(self, memory: Memory) -> None:
        self._with_retry(Command.MASS_ERASE, longest_s=_MASS_LONGEST_S)

    def _erase_main(self, memory: Memory) -> None:
        """No command erases only main flash, so all of the chip is erased."""
        self._mass_erase(memory)
        self._erased, self._open = True, False
        self._send_password(b"\xff" * PASSWORD_BYTES)
        self._open = True

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """The same bytes may be written once more."""
        self._unlock()
        for block in blocks:
            busy_s = 4 * memory.program_s * len(block.data) / memory.write_unit
            self._with_retry(Command.WRITE, _place(block.address) + block.data, longest_s=busy_s)
            yield block

    def start(self, address: int) -> str:
        """At the reset vector's word; only acknowledged."""
        self._unlock()
        told = self._with_retry(Command.READ, _place(_RESET_VECTOR) + b"\x02\x00")
        vector = int.from_bytes(told, "little")
        self.link.discard()
        sent = framed(bytes([Command.GO]) + _place(vector))
        self.link.write(sent)
        wait_s = self.link.settings.seconds(len(sent) + 1) + self.patience_s
        self._acknowledged(Command.GO, Deadline.after(self.link, wait_s))
        return "00 to load PC"

    # --- costs

    @classmethod
    def cost_of_erase(cls, memory: Memory, units: Sequence[EraseUnit]) -> Cost:
        return Cost(6 + 38, 16, 2, memory.mass_erase_time.typical_s)

    @classmethod
    def cost_of_verify(cls, part: Part, memory: Memory, spans: Sequence[Span]) -> Cost:
        runs = [place for span in spans for place in span.pieces(_SUMMED)]
        return sum_costs(Cost(11, 9, 1, place.size * _CRC_BYTE_S) for place in runs)
