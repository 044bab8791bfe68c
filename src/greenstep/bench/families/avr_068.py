"""Simulated boards with a large resident bootloader, from Atmel AVR068 and the parts' data sheets.
Boards: frame-lift, atmega2560, atmega1280.

Stricter than silicon: a message with a wrong checksum is answered as such and ignored; a page that is not one of the
part's, crosses a boundary or lies in the bootloader fails and is noted; anything received while a page is programmed
is lost and noted.
"""

from __future__ import annotations

from collections.abc import Generator
from functools import reduce
from operator import xor

from greenstep.core.frozen import frozen
from greenstep.core.link import LineSettings

from .. import samples
from ..avr_loader import loader_code
from ..boards import LIFT, BenchBoard, any_kind, board_of
from ..chip import TIMED_OUT, Program, Spend, Take, Wish
from ..circuits import CapacitorPulse
from ..faults import Faults
from ..resident import SimulatedResident

Steps = Generator[Wish, int, None]


@frozen
class Avr068Kind:
    """What distinguishes one board from another. Sizes in bytes, times in seconds."""

    title: str
    signature: bytes
    flash_bytes: int
    page: int
    eeprom_bytes: int
    loader_bytes: int
    baud: int
    listens_s: float = 1.2
    name: bytes = b"APIARY_4"
    counts_past_64k: bool = True
    erases_in_order: bool = False
    """Each page write erases the page at a counter of the loader's own, which starts at 0, whatever is written."""
    erases_from: int = 0
    """The counter's start: more than 0 if the loader has not been reset since an earlier upload."""
    eeprom_writes_in_words: bool = False
    eeprom_reads_in_words: bool = False


KINDS = {
    "atmega2560": Avr068Kind(
        "ATmega2560, 256 KiB, 115200 baud, erases in order", b"\x1e\x98\x01", 262144, 256, 4096, 8192, 115200,
        erases_in_order=True, eeprom_reads_in_words=True,
    ),
    "atmega1280": Avr068Kind(
        "ATmega1280, 128 KiB, 57600 baud", b"\x1e\x97\x03", 131072, 256, 4096, 4096, 57600, counts_past_64k=False,
        eeprom_writes_in_words=True, eeprom_reads_in_words=True,
    ),
}  # fmt: skip
_PAGE_S = 0.009
_EEPROM_BYTE_S = 0.0036
_SILENT_S = 0.2


class _Silent(Exception):
    """A message that never ended."""


class SimulatedAvr068(SimulatedResident):
    """One board. `flash` and `eeprom` are its content."""

    def __init__(self, kind: Avr068Kind, faults: Faults | None = None) -> None:
        code = loader_code(kind.loader_bytes)
        super().__init__(faults, kind.flash_bytes, LineSettings(kind.baud), code, kind.eeprom_bytes)
        self.kind = kind
        self._words = 0
        self._eeprom_from, self._eeprom_done = 0, 0
        self._erased_up_to = 0
        self._programming = False
        self._left = False

    def loader(self) -> Program:
        self.running = self._programming = self._left = False
        self._erased_up_to = self.kind.erases_from
        self.settings = LineSettings(self.kind.baud)
        yield Spend(0.004)
        while not self._left:
            value = yield Take(self.kind.listens_s)
            if value == TIMED_OUT:
                break
            if value != 0x1B:
                continue
            try:
                yield from self._message()
            except _Silent:
                continue
        self.restart(self.program())

    def _next(self) -> Generator[Wish, int, int]:
        value = yield Take(_SILENT_S)
        if value == TIMED_OUT:
            raise _Silent
        return max(value, 0)

    def _message(self) -> Steps:
        head = []
        for _ in range(4):
            head.append((yield from self._next()))
        number, size = head[0], head[1] << 8 | head[2]
        if head[3] != 0x0E or not 0 < size <= 275:
            raise _Silent
        body = [max(value, 0) for value in (yield from self.several(size + 1, _SILENT_S))]
        if len(body) <= size:
            raise _Silent
        data = bytes(body[:-1])
        if reduce(xor, bytes([0x1B, *head, *body])):
            self._answer(number, b"\xb0\xc1")
            return
        yield from self._command(number, data)

    def _answer(self, number: int, body: bytes) -> None:
        message = bytes([0x1B, number, len(body) >> 8, len(body) & 0xFF, 0x0E]) + body
        self.send(message + bytes([reduce(xor, message)]))

    def _command(self, number: int, body: bytes) -> Steps:
        command, status, data = body[0], 0x00, b""
        lengths = {0x01: 1, 0x03: 2, 0x06: 5, 0x10: 12, 0x11: 3, 0x12: 7, 0x14: 4, 0x16: 4, 0x1B: 6}
        if command not in (*lengths, 0x13, 0x15):
            status = 0xC9
        elif command in lengths and len(body) != lengths[command]:
            self.violation(f"command {command:02X} of {len(body)} bytes")
            status = 0xC0
        elif command == 0x01:
            data = bytes([8]) + self.kind.name
        elif command == 0x03:
            data = bytes([{0x90: 3, 0x91: 1, 0x92: 4}.get(body[1], 0)])
        elif command == 0x06:
            self._words = self._eeprom_from = int.from_bytes(body[1:5], "big") & 0x7FFFFFFF
            self._eeprom_done = 0
            if self.kind.flash_bytes > 131072 and not body[1] & 0x80 and self._words > 0xFFFF:
                self.violation("an address past 64 K words without bit 31")
                status = 0xC0
        elif command == 0x10:
            self._programming = True
        elif command == 0x11:
            self._left = True
        elif command == 0x1B:
            data = bytes([self.kind.signature[body[4] % 3], 0])
        elif command in (0x13, 0x15):
            status = yield from self._burn(command, body)
        elif command in (0x14, 0x16):
            status, data = self._read(command, int.from_bytes(body[1:3], "big"))
        self._answer(number, bytes([command, status]) + (data if status == 0 else b""))

    def _burn(self, command: int, body: bytes) -> Generator[Wish, int, int]:
        size, data = int.from_bytes(body[1:3], "big"), body[10:]
        if size != len(data) or not self._programming:
            self.violation(f"{len(data)} bytes programmed, {size} announced")
            return 0xC0
        if command == 0x15:
            at = self._eeprom_place(self.kind.eeprom_writes_in_words, size)
            if at is None:
                return 0xC0
            yield Spend(size * _EEPROM_BYTE_S)
            self.eeprom[at : at + size] = data
            return 0
        start = 2 * self._words
        free = self.kind.flash_bytes - self.kind.loader_bytes
        if size != self.kind.page or start % self.kind.page or start + size > free:
            self.violation(f"page of {size} bytes at {start:05X}")
            return 0xC0
        yield Spend(_PAGE_S)
        if self.kind.erases_in_order and self._erased_up_to < free and not self.faults.dead_write:
            self.flash[self._erased_up_to : self._erased_up_to + size] = b"\xff" * size
            self._erased_up_to += size
        self.put(start, data, onto_blank=self.kind.erases_in_order)
        self._count_on(size // 2)
        return 0

    def _eeprom_place(self, in_words: bool, size: int) -> int | None:
        """Where the next `size` bytes of the EEPROM are: the loaded address counts bytes or words."""
        at = self._eeprom_from * (2 if in_words else 1) + self._eeprom_done
        if at + size > self.kind.eeprom_bytes:
            self.violation(f"EEPROM, {size} bytes at {at:04X}")
            return None
        self._eeprom_done += size
        return at

    def _count_on(self, words: int) -> None:
        self._words += words
        if not self.kind.counts_past_64k:
            self._words &= 0xFFFF

    def _read(self, command: int, size: int) -> tuple[int, bytes]:
        if command == 0x16:
            at = self._eeprom_place(self.kind.eeprom_reads_in_words, size)
            return (0xC0, b"") if at is None or size > 128 else (0, bytes(self.eeprom[at : at + size]) + b"\x00")
        memory, start = self.flash, 2 * self._words
        if size & 1:  # its counter goes down by two, and passes 0
            self.violation(f"read of {size} bytes at {start:05X}: it does not end")
            return 0xC0, b""
        if size > 256 or start + size > len(memory):
            self.violation(f"read of {size} bytes at {start:05X}")
            return 0xC0, b""
        self._count_on(size // 2)
        return 0, bytes(memory[start : start + size]) + b"\x00"


def _board(chip: str, name: str = "", dialect: str = "") -> BenchBoard:
    kind = KINDS[chip]
    return board_of(
        kind, SimulatedAvr068, any_kind(samples.avr_image), name or chip, CapacitorPulse("dtr"), LIFT,
        chip=chip, baud=kind.baud, console=kind.baud, dialect=dialect,
    )  # fmt: skip


BOARDS = (_board("atmega2560", "frame-lift"), _board("atmega2560"), _board("atmega1280", dialect="avr-068"))
