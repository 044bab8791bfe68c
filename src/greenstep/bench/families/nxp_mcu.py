"""Simulated Kinetis and LPC55xx with NXP's MCU bootloader in their ROM, from the MCU Bootloader Reference Manual.
Boards: mkl27z256, lpc55s69.

| what | Kinetis | LPC55 generation |
|---|---|---|
| property 04, flash size | all of it | without the ROM's own last pages, or with them |
| property 07, commands | bit n - 1: command n exists | the same; 0D does not |
| property 10, device id | SIM_SDID: family in the highest digits | the part's own |
| property 11, security | 0 open, 1 secure | 5AA55AA5 open, C33CC33C locked |
| erase region (02) | the sectors of the range | the same |
| erase and unsecure (0D) | everything, and the field is written open | does not exist |
| sums | none: memory is read back | the same |
| reset (0B) | status 0, then the pin decides | the same |
| remembered over a reset | nothing but the flash | the same |

Stricter than silicon: a write off its alignment, onto what is not blank, or by a frame that is too long is refused
and noted; a secured chip only tells its properties and erases everything.
"""

from __future__ import annotations

import random
from collections.abc import Generator

from greenstep.core.frozen import frozen
from greenstep.core.image import Image, Piece

from ..boards import FAN, BenchBoard, board_of
from ..chip import Program, Spend, Take, Wish
from ..circuits import Circuit, CrossPair, DtrResetRtsBoot
from ..crc16 import crc16
from ..faults import Faults
from ..rom import SimulatedRom
from ..samples import body_of

Steps = Generator[Wish, int, None]
_OK, _FAIL, _ALIGNMENT, _UNKNOWN, _SECURED, _ABORTED, _RANGE = 0, 1, 101, 10000, 10001, 10002, 10200
FIELD = bytes.fromhex("FF FF FF FF FF FF FF FF FF FF FF FF FE FF FF FF")


@frozen
class McuKind:
    """Sizes in bytes, times in seconds. `field`: it has a flash configuration field at 400."""

    title: str
    flash_bytes: int
    sector: int
    align: int
    packet: int
    program_s: float
    erase_s: float
    ram: tuple[int, int]
    field: bool


KINDS = {
    "mkl27z256": McuKind("MKL27Z256, 256 KiB", 256 * 1024, 1024, 4, 32, 65e-6, 0.014, (0x1FFFE000, 32 * 1024), True),
    "lpc55s69": McuKind(
        "LPC55S69, 630 KiB", 630 * 1024, 512, 512, 512, 0.001, 0.002, (0x20000000, 272 * 1024), False
    ),
}


class SimulatedMcu(SimulatedRom):
    """One chip with its ROM."""

    measured_on = 0x5A
    taken_for = (4, 9)
    top_baud = 230_400

    def __init__(self, kind: McuKind, faults: Faults | None = None) -> None:
        super().__init__(kind.flash_bytes, faults, 57600)
        self.kind = kind
        self._secured = False
        self.device_id = 0x27151502
        self.told_bytes = kind.flash_bytes

    # --- from reset

    def boot(self, boot_selected: bool) -> Program:
        field = self.flash[0x40C] if self.kind.field else 0xFE
        self._secured = self.faults.locked or field & 3 != 2
        blank = not self.flash[:8].strip(b"\xff")
        return self._loader() if (boot_selected or blank) and not self.faults.no_boot else self.application()

    def _loader(self) -> Program:
        self.running = self._leaves = False
        self.settings = self.console
        yield Spend(0.01)
        self._measuring = True
        while not self._leaves:
            kind, payload = yield from self._frame()
            if kind == 0xA4 and payload is not None:
                yield from self._command(payload)
        yield Spend(self.settings.seconds(4))
        self.restart(self.boot(False))

    # --- frames

    def _frame(self) -> Generator[Wish, int, tuple[int, bytes | None]]:
        """The next command or data frame, acknowledged, or the type of a short one; pings are answered."""
        while True:
            while (yield Take()) != 0x5A:
                pass
            kind = yield Take()
            if kind == 0xA6:
                body = bytes([0x5A, 0xA7, 0, 1, 2, 0x50, 0, 0])
                self.send(body + crc16(body).to_bytes(2, "little"))
            if kind not in (0xA4, 0xA5):
                if kind in (0xA1, 0xA2, 0xA3, 0xA6):
                    return kind, None
                continue
            head = yield from self.several(4)
            if min(head) < 0 or head[0] | head[1] << 8 > max(self.kind.packet, 32):
                self.send(b"\x5a\xa2")
                continue
            payload = yield from self.several(head[0] | head[1] << 8)
            if payload and min(payload) < 0:
                self.send(b"\x5a\xa2")
                continue
            if crc16(bytes([0x5A, kind, head[0], head[1], *payload])) != head[2] | head[3] << 8:
                self.send(b"\x5a\xa2")
                continue
            if kind == 0xA4:
                self.send(b"\x5a\xa1")
            return kind, bytes(payload)

    def _say(self, kind: int, payload: bytes) -> Generator[Wish, int, bool]:
        """A frame until it is acknowledged. False if the host began something else."""
        head = bytes([0x5A, kind]) + len(payload).to_bytes(2, "little")
        while True:
            self.send(head + crc16(head + payload).to_bytes(2, "little") + payload)
            answer, command = yield from self._frame()
            if answer == 0xA1:
                return True
            if answer != 0xA2:
                if command is not None and answer == 0xA4:
                    yield from self._command(command)
                return False

    def _generic(self, status: int, tag: int) -> Steps:
        yield from self._say(0xA4, _answer(0xA0, status, tag))

    # --- commands

    def _command(self, payload: bytes) -> Steps:
        tag, number = payload[0], payload[3]
        values = [int.from_bytes(payload[4 + 4 * i : 8 + 4 * i], "little") for i in range(number)]
        if self._secured and tag not in (0x07, 0x0B, 0x0D):
            yield from self._generic(_SECURED, tag)
        elif tag == 0x07:
            yield from self._property(values[0])
        elif tag == 0x02:
            yield from self._erase(values)
        elif tag == 0x03:
            yield from self._read(values)
        elif tag == 0x04:
            yield from self._write(values)
        elif tag == 0x01 or (tag == 0x0D and self.kind.field):
            yield Spend(len(self.flash) / self.kind.sector * self.kind.erase_s * self.faults.slow_erase)
            self.flash[:] = b"\xff" * len(self.flash)
            if tag == 0x0D and not self.faults.lock_stays:
                self.faults.locked = self._secured = False
                if self.kind.field:
                    self.flash[0x400:0x410] = FIELD
            yield from self._generic(_OK, tag)
        elif tag == 0x0B:
            self._leaves = True
            yield from self._generic(_OK, tag)
        else:
            self.violation(f"command {tag:02X}")
            yield from self._generic(_UNKNOWN, tag)

    def _property(self, number: int) -> Steps:
        values: dict[int, tuple[int, ...]] = {
            0x01: (0x4B020100,),
            0x03: (0,),
            0x04: (self.told_bytes,),
            0x07: (0xFFFF if self.kind.field else 0xFFFF & ~(1 << 0x0C),),
            0x05: (self.kind.sector,),
            0x0B: (self.kind.packet,),
            0x10: (self.device_id,),
            0x11: (int(self._secured) if self.kind.field else 0xC33CC33C if self._secured else 0x5AA55AA5,),
            0x12: (0x00440031, 0x4E453011, 0x10050000 + self.copy),
        }
        if number in values:
            yield from self._say(0xA4, _answer(0xA7, _OK, *values[number]))
        else:
            yield from self._say(0xA4, _answer(0xA7, 10300))

    def _inside(self, address: int, size: int) -> bool:
        return size > 0 and address + size <= len(self.flash)

    def _erase(self, values: list[int]) -> Steps:
        address, size = values[0], values[1]
        if not self._inside(address, size):
            yield from self._generic(_RANGE, 0x02)
            return
        if address % self.kind.sector or size % self.kind.sector:
            self.violation(f"erase of {size} bytes at {address:05X}")
            yield from self._generic(_ALIGNMENT, 0x02)
            return
        yield Spend(size / self.kind.sector * self.kind.erase_s * self.faults.slow_erase)
        self.flash[address : address + size] = b"\xff" * size
        yield from self._generic(_OK, 0x02)

    def _read(self, values: list[int]) -> Steps:
        address, size = values[0], values[1]
        if not self._inside(address, size):
            yield from self._say(0xA4, _answer(0xA3, _RANGE, 0))
            return
        if not (yield from self._say(0xA4, _answer(0xA3, _OK, size))):
            return
        for at in range(address, address + size, self.kind.packet):
            data = bytes(self.flash[at : min(at + self.kind.packet, address + size)])
            if not (yield from self._say(0xA5, data)):
                return
        yield from self._generic(_OK, 0x03)

    def _write(self, values: list[int]) -> Steps:
        address, size = values[0], values[1]
        status = _OK if self._inside(address, size) else _RANGE
        if address % self.kind.align or size % self.kind.align:
            self.violation(f"write of {size} bytes at {address:05X}")
            status = _ALIGNMENT
        answered = self._say(0xA4, _answer(0xA0, status, 0x04))
        if not (yield from answered) or status:
            return
        while size:
            kind, data = yield from self._frame()
            if kind != 0xA5 or data is None:
                if data is not None:
                    yield from self._command(data)
                return
            if len(data) > size:
                self.send(b"\x5a\xa3")
                yield from self._generic(_ABORTED, 0x04)
                return
            yield Spend(-(-len(data) // self.kind.align) * self.kind.program_s)
            self.put(address, data)
            address, size = address + len(data), size - len(data)
            self.send(b"\x5a\xa1")
        yield from self._generic(_OK, 0x04)


def _answer(tag: int, *values: int) -> bytes:
    return bytes([tag, 0, 0, len(values)]) + b"".join(value.to_bytes(4, "little") for value in values)


def _program(kind: McuKind, text: str, size: int, seed: int) -> Image:
    """A Cortex-M program at 0, with the configuration field that startup files have."""
    source = random.Random(seed)
    start, ram = kind.ram
    handlers = [0x500 + 2 * source.randrange(100) | 1 for _ in range(46)]
    vectors = b"".join(word.to_bytes(4, "little") for word in (start + ram, 0x4C1, *handlers))
    body = bytearray(body_of(vectors, text, size, source, 0xFF))
    if kind.field and size < 0x410:
        return Image("smoke-fan.hex", (Piece(0, bytes(body)), Piece(0x400, FIELD)), 0x4C1, "Intel HEX")
    if kind.field:
        body[0x400:0x410] = FIELD
    return Image("smoke-fan.hex", (Piece(0, bytes(body)),), 0x4C1, "Intel HEX")


def _board(name: str, circuit: Circuit) -> BenchBoard:
    return board_of(KINDS[name], SimulatedMcu, _program, name, circuit, FAN, baud=57600, console=57600)


BOARDS = (_board("mkl27z256", DtrResetRtsBoot("low")), _board("lpc55s69", CrossPair()))
