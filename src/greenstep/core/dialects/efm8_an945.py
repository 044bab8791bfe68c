"""`efm8-an945`: the factory bootloader of Silicon Labs' EFM8 on a UART (AN945).

A record is '$', a length, a command and its data, with no checksum, and one character answers it. Nothing can be read
back: the chip compares a CRC-16 over any range with one that it is sent. So what a damaged record did elsewhere could
not be seen if anything were left as it was: all that the application may use is erased, and proven as a whole.

Page 0 is erased first, and byte 0 written last: until then the bootloader stays.
"""

from __future__ import annotations

from binascii import crc_hqx
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, ClassVar

from ..chips.part import EraseUnit, Memory, Part
from ..clock.uarts import Divided, Mode, UartRules
from ..image import Image, Piece
from ..link import Link
from ..quantities import show_bytes, show_size
from ..spans import Span
from .abilities import PROOF_BYTES, Checksums, ProvesRate, TakesOver, TellsSums
from .dialect import Dialect
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected
from .framing import Framing, Opened
from .line import drain, noise, refuse_text
from .results import Examination, Identity, WriteBlock
from .spec import Asking, Attempt, Cost, CostRow, Costs, Erasing, ProtocolCommand, Spec, Starting


class Command(ProtocolCommand):
    """AN945, "Bootloader commands"."""

    IDENTIFY = 0x30, "identify", "hex"
    SETUP = 0x31, "setup", "hex"
    ERASE = 0x32, "erase page", "at:2"
    WRITE = 0x33, "write", "address:2 data"
    VERIFY = 0x34, "verify", "at:2 end:2"
    LOCK = 0x35, "lock", "hex"
    RUN = 0x36, "run application", "hex"


_OK, _RANGE, _BAD_ID, _BAD_CRC = 0x40, 0x41, 0x42, 0x43
ANSWERS = {_OK: "ok", _RANGE: "range error", _BAD_ID: "bad id", _BAD_CRC: "CRC error"}
_KEYS = b"\xa5\xf1\x00"
_WRITE_BYTES, _LONGEST_RECORD = 128, 255
_CRC_BYTE_S = 10e-6
_QUIET_S, _TRIES = 0.03, 4
_IDS_TRIED = 32


def record(command: int, data: bytes) -> bytes:
    """A record, after the FF from which the rate can be measured anew."""
    return b"\xff$" + bytes([len(data) + 1, command]) + data


def _divide(clock_hz: float, baud: int) -> Divided | None:
    """UART0 by timer 1, which counts 8 bits: baud = f / (2 n), n up to 256."""
    count = round(clock_hz / (2 * baud))
    return Divided(clock_hz / (2 * count), f"TH1 {256 - count}") if 1 <= count <= 256 else None


def _opened(sent: bytes) -> Opened:
    record = sent.lstrip(b"\xff")
    return (record[2], record[3:]) if len(record) >= 3 and record[:1] == b"$" else None


def _answered(command: Command, sent: bytes, heard: bytes) -> str:
    return "" if heard[0] == _OK else ANSWERS.get(heard[0], show_bytes(heard, 4))


class Efm8An945(Dialect, Checksums, ProvesRate, TakesOver, TellsSums):
    """The conversation with one chip."""

    name: ClassVar[str] = "efm8-an945"
    title: ClassVar[str] = "EFM8 bootloader (AN945)"
    document: ClassVar[str] = "Silicon Labs AN945"
    decoder: ClassVar[Framing] = Framing(Command, _opened, "big", 4, _answered)
    answer_s: ClassVar[float] = 0.3
    uart: ClassVar[UartRules | None] = UartRules(
        "efm8",
        "EFM8 UART0",
        "the system clock, 24.5 MHz after reset divided by 8",
        'EFM8BB1 reference manual, "UART0", timer 1; tolerance computed from half a bit',
        (Mode("timer 1", _divide, lambda divided, frame: 0.5 / (frame.data_bits + 1.5)),),
    )
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=record(Command.IDENTIFY, b"\x00\x00"),
            attempts=(Attempt(0.05, 2), Attempt(0.2, 2), Attempt(0.6, 2)),
            wait_s=0.1,
            order=26,
            measures_rate=True,
        ),
        erasing=Erasing.ALL_AT_ONCE,
        starting=Starting.RESET,
        start_answers=False,
        erases_alone=True,
        guards_writes=False,
        gives_up=False,
        tells_chip=False,
        shows_sums_only=True,
        costs=Costs(block=_WRITE_BYTES, erase=CostRow(6, 1), prove=CostRow(10, 1, byte_s=_CRC_BYTE_S)),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._whole: tuple[Span, bytes] | None = None
        """What all of the flash that an application may use must hold, once this conversation has written it."""

    # --- records

    def _answer(self, command: Command, data: bytes, longest_s: float = 0.0) -> int:
        """The character that answers a record. Raises Silence, Unexpected."""
        self.link.discard()
        sent = record(command, data)
        self.link.write(sent)
        wait_s = self.link.settings.seconds(len(sent) + 1) + self.patience_s + longest_s
        heard = self.link.read(1, wait_s)
        if not heard:
            raise Silence(f"answer to '{command.words}'", wait_s)
        if heard[0] not in ANSWERS:
            raise Unexpected(f"answer to '{command.words}'", heard + drain(self.link, _QUIET_S))
        return heard[0]

    def _with_retry(self, command: Command, data: bytes, longest_s: float = 0.0) -> int:
        """The same where it may be repeated: each record does the same each time."""
        return self.exchange(lambda: self._answer(command, data, longest_s), self._recover, _TRIES)

    def _order(self, command: Command, data: bytes, longest_s: float = 0.0, address: int | None = None) -> None:
        """A record that must be answered by 40. Raises ChipRefusal."""

        def once() -> None:
            answer = self._answer(command, data, longest_s)
            if answer != _OK:
                kind = RefusalKind.BAD_ADDRESS if answer == _RANGE else RefusalKind.BAD_DATA
                said = f"{answer:02X}, {ANSWERS[answer]},"
                raise ChipRefusal(command.words, kind, bytes([answer]), address, said)

        self.exchange(once, self._recover, _TRIES, refusals=3)

    def _recover(self, heard: bytes) -> None:
        """Complete half a record with bytes that program nothing; then the bootloader must know that 0000 is no
        chip's number, and be unlocked again. Raises DialectError."""
        refuse_text("answer", heard + drain(self.link, 2 * _QUIET_S))
        for attempt in range(_TRIES):
            self.link.write(b"\xff" * (_LONGEST_RECORD + 1))
            drain(self.link, self.link.settings.seconds(_LONGEST_RECORD + 1) + 2 * _QUIET_S)
            try:
                if self._answer(Command.IDENTIFY, b"\x00\x00") == _BAD_ID:
                    self._answer(Command.SETUP, _KEYS)
                    return
            except (Silence, Unexpected):
                if attempt == _TRIES - 1:
                    raise
        raise Unexpected("42 after 'identify'", b"")

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """Whether it is the chip with the number 0000, which none is, twice."""
        wait_s = self.probe_timeout(wait_s) or self.patience_s  # some answer late
        for _ in range(2):
            self.link.discard()
            self.link.write(record(Command.IDENTIFY, b"\x00\x00"))
            if self.link.read(1, wait_s) != bytes([_BAD_ID]) or drain(self.link, _QUIET_S, 0.2):
                drain(self.link, _QUIET_S, wait_s)
                return None
        return "42 to the number 0000, twice"

    def identify(self) -> Identity:
        """It does not tell its number, only whether it has the one that it is asked for."""
        self._order(Command.SETUP, _KEYS)
        return Identity(None, "a bootloader that tells no chip number")

    def examine(self, part: Part) -> Examination:
        """Which derivative it is, where the number of the device is known; that none fits is no contradiction."""
        device = part.extra.get("device")
        details: list[tuple[str, str]] = [("flash", show_size(part.flash.size))]
        for derivative in range(1, _IDS_TRIED) if device is not None else ():
            number = bytes([int(device or 0), derivative])
            if self._with_retry(Command.IDENTIFY, number) == _OK:
                details.append(("number", number.hex().upper()))
                break
        return Examination(part, tuple(details))

    def prove_rate(self, part: Part, size: int = PROOF_BYTES) -> None:
        """Numbers that no chip has; each is answered by one character."""
        for number in range(size // 6):
            self._other_number(noise(number, 1))

    def _other_number(self, number: bytes) -> None:
        if self._answer(Command.IDENTIFY, b"\x00" + number) != _BAD_ID:
            raise Unexpected("42 after 'identify'", b"")

    def take_over(self, before: Dialect) -> None:
        """What all of the flash must hold."""
        if isinstance(before, type(self)):
            self._whole = before._whole

    # --- proof

    @classmethod
    def checksum_unit(cls, memory: Memory) -> int:
        return 1

    def checksum_equals(self, memory: Memory, address: int, data: bytes) -> bool:
        """And once it was written, whether all else is as it must be too."""
        equal = self._holds(address, data)
        if equal and self._whole is not None:
            span, whole = self._whole
            return self._holds(span.start, whole)
        return equal

    def _holds(self, address: int, data: bytes) -> bool:
        """Whether the chip's CRC over a range is that of the data."""
        last = address + len(data) - 1
        rest = address.to_bytes(2, "big") + last.to_bytes(2, "big") + crc_hqx(data, 0).to_bytes(2, "big")
        answer = self._with_retry(Command.VERIFY, rest, 4 * len(data) * _CRC_BYTE_S)
        if answer not in (_OK, _BAD_CRC):
            raise ChipRefusal(Command.VERIFY.words, RefusalKind.BAD_ADDRESS, bytes([answer]), address)
        # a damaged range or CRC would say no, and never yes
        return answer == _OK or self._with_retry(Command.VERIFY, rest, 4 * len(data) * _CRC_BYTE_S) == _OK

    def sums_seen(self) -> tuple[str, ...]:
        return (f"its CRC is not that of the image ({show_bytes(bytes([_BAD_CRC]))})",)

    # --- erasing and writing

    def erase(self, memory: Memory, units: Sequence[EraseUnit]) -> Iterator[int]:
        self.erase_all(memory)
        yield len(units)

    def erase_all(self, memory: Memory) -> None:
        """Page by page, page 0 first; then all must be blank."""
        blank = b"\xff" * memory.usable.size
        self._whole = (memory.usable, blank)
        for unit in memory.units_of([memory.usable]):
            self._erase(memory, unit)
        for _ in range(_TRIES):
            if self._holds(memory.usable.start, blank):
                return
            for unit in memory.units_of([memory.usable]):
                if not self._holds(unit.address, b"\xff" * unit.size):
                    self._erase(memory, unit)

    def _erase(self, memory: Memory, unit: EraseUnit) -> None:
        longest_s = memory.erase_time(unit.size).longest_s
        self._order(Command.ERASE, unit.address.to_bytes(2, "big"), longest_s, unit.address)

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """All but byte 0; what a damaged record left elsewhere is erased, and what is missing is written again; then
        byte 0."""
        image = Image("", tuple(Piece(block.address, block.data) for block in blocks))
        whole = image.cut(memory.usable.start, memory.usable.size, memory.erased)
        self._whole = (memory.usable, whole)
        for block in blocks:
            self._write(memory, block.address, block.data)
            yield block
        first, rest = whole[:1], b"\xff" + whole[1:]
        for _ in range(_TRIES):
            for _ in range(_TRIES):
                if self._holds(memory.usable.start, rest):
                    break
                self._mend(memory, rest)
            if first == b"\xff":
                return
            self._order(Command.WRITE, memory.start.to_bytes(2, "big") + first, self._busy_s(memory, 1))
            if self._holds(memory.usable.start, whole):
                return

    def _mend(self, memory: Memory, whole: bytes) -> None:
        """Erase and write the pages that differ."""
        self.retries += 1
        for unit in memory.units_of([memory.usable]):
            wanted = whole[unit.address - memory.usable.start :][: unit.size]
            if self._holds(unit.address, wanted):
                continue
            self._erase(memory, unit)
            for at in range(0, unit.size, _WRITE_BYTES):
                self._write(memory, unit.address + at, wanted[at : at + _WRITE_BYTES])

    def _write(self, memory: Memory, address: int, data: bytes) -> None:
        """Without byte 0, and without what is blank anyway."""
        if address == memory.start:
            address, data = address + 1, data[1:]
        kept = data.rstrip(b"\xff")
        if kept:
            self._order(Command.WRITE, address.to_bytes(2, "big") + kept, self._busy_s(memory, len(kept)), address)

    @staticmethod
    def _busy_s(memory: Memory, size: int) -> float:
        return 4 * memory.program_s * size

    def start(self, address: int) -> str:
        self._order(Command.RUN, b"\x00\x00")
        return f"{_OK:02X} to run"

    # --- costs

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        return Cost(6 + size, 1, 1, memory.program_s * size)
