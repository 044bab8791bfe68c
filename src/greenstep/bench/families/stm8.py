"""Simulated STM8 with the bootloader in their ROM, from ST UM0560. Boards: stm8s105, stm8s208.

| what | the loader |
|---|---|
| line | 8 data bits and even parity; `reply`: no parity, and it waits for each of its characters to come back |
| read (11), go (21), get (00) | by itself |
| write (31) | RAM by itself; flash by the maker's routines in RAM at A0 |
| erase (43) | sectors of 1 KiB by their numbers, by the same routines; FF 00: all, EEPROM too |
| busy | `says_busy`: AA while it erases or writes, before 79 |
| sums | none |
| remembered over a reset | nothing: the RAM is cleared |

Stricter than silicon: erasing or writing flash before the routines are in RAM is refused and noted, and so is what
is not blank.
"""

from __future__ import annotations

import random
from collections.abc import Generator
from functools import reduce
from operator import xor

from greenstep.core.frozen import frozen
from greenstep.core.image import Image, Piece
from greenstep.core.link import Frame, LineSettings

from .. import application
from ..boards import LIFT, BenchBoard, board_of
from ..chip import DAMAGED, TIMED_OUT, Program, SimulatedChip, Spend, Take, Wish
from ..circuits import CapacitorPulse, Circuit
from ..faults import Faults
from ..samples import body_of

Steps = Generator[Wish, int, bool]
_EVEN = Frame(8, "even", 1)
_BASE, _SECTOR, _SECTOR_S, _BLOCK_S, _LISTENS_S = 0x8000, 1024, 0.024, 0.003, 1.0
_ROUTINES_AT = 0xA0
_ACK, _NACK = b"\x79", b"\x1f"
ROUTINES = random.Random(8).randbytes(312)
"""Made up: the simulated loader only looks whether it has just these."""


@frozen
class Stm8Kind:
    """Sizes in bytes."""

    title: str
    flash_bytes: int
    ram_bytes: int
    loader: int


KINDS = {
    "stm8s105": Stm8Kind("STM8S105C6, 32 KiB", 32 * 1024, 2048, 0x13),
    "stm8s208": Stm8Kind("STM8S208MB, 128 KiB", 128 * 1024, 6144, 0x21),
}


class SimulatedStm8(SimulatedChip):
    """One chip, whose option bytes let the loader listen after each reset."""

    top_baud = 460_800
    base = _BASE

    def __init__(self, kind: Stm8Kind, faults: Faults | None = None) -> None:
        super().__init__()
        self.kind = kind
        self.faults = faults or Faults()
        self.flash = bytearray(kind.flash_bytes)
        self.ram = bytearray(kind.ram_bytes)
        self.settings = self.console = LineSettings(115200)
        self.running = False
        self.reply = self.says_busy = False
        self._measures = False

    def boot(self, boot_selected: bool) -> Program:
        self.ram[:] = bytes(len(self.ram))
        return self._application() if self.faults.no_boot else self._loader()

    def brown_out(self, at_s: float) -> None:
        self.run_from(at_s, self._application())

    def _application(self) -> Program:
        self.running, self._measures = True, False
        if not any(self.flash[:4]):
            return application.idle(1e9)
        return application.run(self, bytes(self.flash), self.console, self.faults)

    def hear_raw(self, value: int, sent: LineSettings) -> bool:
        if not self._measures or not self.listens:
            return False
        self._measures = False
        measured = sent.baud if value == 0x7F and self.follows(sent.baud) else max(300, sent.baud // 3)
        self.settings = LineSettings(measured, Frame(8, "none", 1) if self.reply else _EVEN)
        return value == 0x7F and measured == sent.baud

    def _loader(self) -> Program:
        self.running, self._measures = False, True
        yield Spend(0.005)
        value = yield Take(_LISTENS_S if any(self.flash[:4]) else None)
        while value not in (0x7F, TIMED_OUT):
            value = yield Take(_LISTENS_S)
        if value == TIMED_OUT:
            self.restart(self._application())
            return
        yield from self._say(_ACK)
        while True:
            code = yield Take()
            complement = yield Take()
            handler = {0x00: self._get, 0x11: self._read, 0x21: self._go, 0x31: self._write, 0x43: self._erase}.get(
                code
            )
            if handler is None or complement != code ^ 0xFF:
                yield from self._say(_NACK)
                continue
            yield from self._say(_ACK)
            if (yield from handler()):
                return

    def _say(self, data: bytes) -> Generator[Wish, int, None]:
        if not self.reply:
            self.send(data)
            return
        for value in data:
            self.send(bytes([value]))
            back = yield Take(1.0)
            if back != value:
                self.violation(f"{value:02X} came back as {back:02X}")

    def _busy(self, seconds: float) -> Generator[Wish, int, None]:
        if self.says_busy:
            yield from self._say(b"\xaa")
        yield Spend(seconds)

    def _get(self) -> Steps:
        yield from self._say(bytes([5, self.kind.loader, 0x00, 0x11, 0x21, 0x31, 0x43]) + _ACK)
        return False

    def _frame(self, head: list[int], size: int) -> Generator[Wish, int, bytes | None]:
        if DAMAGED in head:
            return None
        values = yield from self.several(size + 1)
        return None if DAMAGED in values or reduce(xor, head + values) else bytes(values[:-1])

    def _place(self, address: int) -> tuple[bytearray, int] | None:
        """The memory that an address is in, and where in it."""
        if address < len(self.ram):
            return self.ram, address
        if _BASE <= address < _BASE + len(self.flash):
            return self.flash, address - _BASE
        return None

    def _address(self) -> Generator[Wish, int, tuple[int, bytearray, int] | None]:
        frame = yield from self._frame([], 4)
        address = int.from_bytes(frame, "big") if frame is not None else -1
        place = self._place(address) if address >= 0 else None
        yield from self._say(_NACK if place is None else _ACK)
        return None if place is None else (address, *place)

    def _read(self) -> Steps:
        place = yield from self._address()
        if place is None:
            return False
        size, complement = (yield Take()), (yield Take())
        if size == DAMAGED or complement != size ^ 0xFF:
            yield from self._say(_NACK)
            return False
        _, memory, at = place
        yield from self._say(_ACK + bytes(memory[at : at + size + 1]).ljust(size + 1, b"\x00"))
        return False

    def _go(self) -> Steps:
        place = yield from self._address()
        if place is None:
            return False
        yield Spend(self.settings.seconds(2))
        self.restart(self._application())
        return True

    @property
    def _has_routines(self) -> bool:
        return bytes(self.ram[_ROUTINES_AT : _ROUTINES_AT + len(ROUTINES)]) == ROUTINES

    def _write(self) -> Steps:
        place = yield from self._address()
        if place is None:
            return False
        address, memory, at = place
        size = yield Take()
        data = yield from self._frame([size], size + 1)
        if data is None or len(data) > 128 or at + len(data) > len(memory):
            if data is not None:
                self.violation(f"write of {len(data)} bytes at {address:05X}")
            yield from self._say(_NACK)
        elif memory is self.ram:
            if at < _ROUTINES_AT:
                self.violation("write to the loader's RAM")
            memory[at : at + len(data)] = data
            yield from self._say(_ACK)
        elif not self._has_routines:
            self.violation("write without the routines")
            yield from self._say(_NACK)
        else:
            yield from self._busy(_BLOCK_S)
            self._burn(address, at, data)
            yield from self._say(_ACK)
        return False

    def _burn(self, address: int, at: int, data: bytes) -> None:
        if self.faults.dead_write:
            return
        old = bytes(self.flash[at : at + len(data)])
        if any(old) and old != data:
            self.violation(f"write to {address:05X}, which is not blank")
        self.flash[at : at + len(data)] = data
        for worn in self.faults.worn:
            if address <= worn < address + len(data):
                self.flash[worn - _BASE] ^= 0x10

    def _erase(self) -> Steps:
        count = yield Take()
        codes = yield from self._frame([count], count + 1) if count != 0xFF else self._frame([0xFF, 0xFF], 0)
        if codes is None or not codes or not self._has_routines or max(codes) >= len(self.flash) // _SECTOR:
            if codes:
                self.violation(f"erase of {codes.hex()}" + ("" if self._has_routines else " without the routines"))
            yield from self._say(_NACK)
            return False
        yield from self._busy(len(codes) * _SECTOR_S * self.faults.slow_erase)
        for code in codes:
            self.flash[code * _SECTOR : (code + 1) * _SECTOR] = bytes(_SECTOR)
        yield from self._say(_ACK)
        return False


def _program(kind: Stm8Kind, text: str, size: int, seed: int) -> Image:
    """A table of interrupts, each 82 and an address of 24 bits."""
    source = random.Random(seed)
    vectors = b"".join(b"\x82" + (_BASE + 0x80 + 2 * source.randrange(200)).to_bytes(3, "big") for _ in range(32))
    return Image("frame-lift.hex", (Piece(_BASE, body_of(vectors, text, size, source, 0x00)),), None, "Intel HEX")


def _board(name: str, chip: str, circuit: Circuit) -> BenchBoard:
    kind = KINDS[name]
    routines = Image("routines.s19", (Piece(_ROUTINES_AT, ROUTINES),))
    return board_of(kind, SimulatedStm8, _program, name, circuit, LIFT, chip=chip, settings=(("routines", routines),))


BOARDS = (
    _board("stm8s105", "stm8s105x6", CapacitorPulse("dtr")),
    _board("stm8s208", "stm8s207xb", CapacitorPulse("rts")),
)
