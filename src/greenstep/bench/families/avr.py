"""Simulated AVR boards with a small resident bootloader, from Atmel AVR061 and the parts' data sheets.
Boards: hive-scale, atmega328p, atmega168, atmega1284p.

Stricter than silicon: a command that does not end in 20 is answered 15; a page that is not one of the part's, or lies
in the bootloader, fails and is noted; anything received while a page is programmed is lost and noted.
"""

from __future__ import annotations

from collections.abc import Generator

from greenstep.core.frozen import frozen
from greenstep.core.link import LineSettings

from .. import samples
from ..avr_loader import loader_code
from ..boards import SCALE, BenchBoard, any_kind, board_of
from ..chip import DAMAGED, TIMED_OUT, Program, Spend, Take, Wish
from ..circuits import CapacitorPulse
from ..faults import Faults
from ..resident import SimulatedResident

Steps = Generator[Wish, int, None]
_GOOD, _OK, _FAILED, _UNKNOWN, _NO_SYNC = b"\x14", b"\x10", b"\x11", b"\x12", b"\x15"
_END = 0x20
_DAMAGE = frozenset({DAMAGED})


@frozen
class AvrKind:
    """What distinguishes one board from another. Sizes in bytes, times in seconds."""

    title: str
    signature: bytes
    flash_bytes: int
    page: int
    eeprom_bytes: int
    loader_bytes: int
    baud: int
    led_s: float = 0.0
    wrong_end_restarts: bool = False
    listens_s: float = 1.0
    eeprom_in_words: bool = True
    handles_eeprom: bool = True
    tells_memories_apart: bool = True


KINDS = {
    "atmega328p": AvrKind(
        "ATmega328P, 32 KiB, 115200 baud", b"\x1e\x95\x0f", 32768, 128, 1024, 512, 115200
    ),
    "atmega168": AvrKind(
        "ATmega168, 16 KiB, 57600 baud, EEPROM counted in bytes", b"\x1e\x94\x06", 16384, 128, 512, 2048, 57600,
        eeprom_in_words=False,
    ),
    "atmega1284p": AvrKind(
        "ATmega1284P, 128 KiB, flashes an LED first and is strict", b"\x1e\x97\x05", 131072, 256, 4096, 1024, 115200,
        led_s=0.28, listens_s=1.6, wrong_end_restarts=True,
    ),
}  # fmt: skip

_PAGE_S = 0.009  # page erase and page write, 4.5 ms each (data sheets, "Serial Programming Characteristics")
_EEPROM_BYTE_S = 0.0036
_PARAMETERS = {0x80: 1, 0x81: 1, 0x82: 7, 0x84: 50}
"""By number (AVR061, "Parameters"): hardware, software 1.7, the target's supply in tenths of a volt."""


class _LostStep(Exception):
    """A command that did not end as it must."""


class SimulatedAvr(SimulatedResident):
    """One board. `flash` and `eeprom` are its content."""

    def __init__(self, kind: AvrKind, faults: Faults | None = None, console: LineSettings | None = None) -> None:
        code = loader_code(kind.loader_bytes)
        super().__init__(faults, kind.flash_bytes, console or LineSettings(kind.baud), code, kind.eeprom_bytes)
        self.kind = kind
        self._address = 0
        self._programming = False
        self._left = False

    def loader(self) -> Program:
        self.running = False
        self._programming = False
        self.settings = LineSettings(self.kind.baud)
        yield Spend(0.004)
        self.keeps_early = True
        yield Spend(self.kind.led_s)
        self.keeps_early = False
        silent_s = self.kind.listens_s
        while True:
            command = yield Take(silent_s)
            if command == TIMED_OUT:
                self.restart(self.program())
                return
            try:
                yield from self._command(command)
            except _LostStep:
                if self.kind.wrong_end_restarts:
                    self.restart(self.program())
                    return
                self.send(_NO_SYNC)
            if self._left:
                self.restart(self.program())
                return

    # --- characters inside a command

    def _next(self) -> Generator[Wish, int, int]:
        """The next character of a command; in the middle of one, a bootloader waits no longer than usual."""
        value = yield Take(self.kind.listens_s)
        if value < 0:
            raise _LostStep
        return value

    def _end(self) -> Steps:
        if (yield from self._next()) != _END:
            raise _LostStep

    def _reply(self, data: bytes = b"") -> None:
        self.send(_GOOD + data + _OK)

    def _command(self, command: int) -> Steps:
        self._left = False
        if command == 0x30:
            yield from self._end()
            self._reply()
        elif command == 0x41:
            which = yield from self._next()
            yield from self._end()
            self._reply(bytes([_PARAMETERS.get(which, 0)]))
        elif command == 0x50:
            yield from self._end()
            self._programming = True
            self._reply()
        elif command == 0x51:
            yield from self._end()
            self._reply()
            self._left = True
        elif command == 0x75:
            yield from self._end()
            self._reply(self.kind.signature)
        elif command == 0x55:
            low = yield from self._next()
            high = yield from self._next()
            yield from self._end()
            self._address = high << 8 | low
            self._reply()
        elif command == 0x56:
            for _ in range(4):
                yield from self._next()
            yield from self._end()
            self._reply(b"\x00")
        elif command in (0x42, 0x45):
            for _ in range(20 if command == 0x42 else 5):
                yield from self._next()
            yield from self._end()
            self._reply()
        elif command == 0x64:
            yield from self._program_page()
        elif command == 0x74:
            yield from self._read_page()
        else:
            yield from self._end()
            self.send(_GOOD + _UNKNOWN)

    # --- pages

    def _size_and_kind(self) -> Generator[Wish, int, tuple[int, int]]:
        high = yield from self._next()
        low = yield from self._next()
        kind = yield from self._next()
        return high << 8 | low, kind

    def _program_page(self) -> Steps:
        size, kind = yield from self._size_and_kind()
        if size > 256:
            raise _LostStep
        values = yield from self.several(size, self.kind.listens_s, _DAMAGE)
        if len(values) < size or DAMAGED in values:
            raise _LostStep
        yield from self._end()
        data = bytes(values)
        if not self._programming:
            self.violation("a page outside programming mode")
            self.send(_GOOD + _FAILED)
            return
        if kind == ord("E") and self.kind.tells_memories_apart:
            yield from self._program_eeprom(data)
            return
        start = self._address * 2
        free = self.kind.flash_bytes - self.kind.loader_bytes
        if kind != ord("F") or size != self.kind.page or start % self.kind.page or start + size > free:
            self.violation(f"page of {size} bytes at {start:04X}")
            self.send(_GOOD + _FAILED)
            return
        yield Spend(_PAGE_S)
        self.put(start, data, onto_blank=False)
        self._reply()

    def _program_eeprom(self, data: bytes) -> Steps:
        start = self._eeprom_start()
        if start + len(data) > self.kind.eeprom_bytes:
            self.violation(f"EEPROM write of {len(data)} bytes at {start:04X}")
            self.send(_GOOD + _FAILED)
            return
        yield Spend(len(data) * _EEPROM_BYTE_S)
        if self.kind.handles_eeprom:
            self.eeprom[start : start + len(data)] = data
        self._reply()

    def _eeprom_start(self) -> int:
        return self._address * 2 if self.kind.eeprom_in_words else self._address

    def _read_page(self) -> Steps:
        size, kind = yield from self._size_and_kind()
        yield from self._end()
        memory, start = self.flash, self._address * 2
        if kind == ord("E") and self.kind.tells_memories_apart:
            memory, start = self.eeprom, self._eeprom_start()
        if size > 256 or start + size > len(memory):
            self.violation(f"read of {size} bytes at {start:04X}")
            self.send(_GOOD + _FAILED)
            return
        self._reply(bytes(memory[start : start + size]))


def _board(chip: str, name: str = "") -> BenchBoard:
    kind = KINDS[chip]
    return board_of(
        kind, SimulatedAvr, any_kind(samples.avr_image), name or chip, CapacitorPulse("dtr"), SCALE,
        chip=chip, baud=kind.baud, console=kind.baud,
    )  # fmt: skip


BOARDS = (_board("atmega328p", "hive-scale"), *map(_board, KINDS))
