"""Simulated EFM8 with its factory bootloader on a UART, from AN945. Boards: efm8bb1, efm8ub2.

| what | the loader |
|---|---|
| stays | pin low at reset, or byte 0 of the flash blank |
| keys (31) | A5 F1; without them nothing is erased or written |
| erase (32), write (33) | the 512-byte page of the address, and data; write erases nothing |
| verify (34) | CRC-16 of exactly the range, from the flash |
| identify (30) | compares a number, tells none |
| run (36) | acknowledged, then a reset |
| status | 40 well, 41 range, 42 number, 43 CRC |
| remembered over a reset | nothing but the flash |

Stricter than silicon: without the keys nothing is erased or written; a write onto what is not blank is noted.
"""

from __future__ import annotations

from collections.abc import Generator

from greenstep.core.frozen import frozen

from .. import samples
from ..boards import FAN, BenchBoard, any_kind, board_of
from ..chip import Program, Spend, Take, Wish
from ..circuits import Circuit, DtrResetRtsBoot, RtsResetDtrBoot
from ..crc16 import crc16
from ..faults import Faults
from ..rom import SimulatedRom

Steps = Generator[Wish, int, None]
_PAGE, _PAGE_S, _BYTE_S, _CRC_BYTE_S = 512, 0.006, 20e-6, 10e-6
_OK, _RANGE, _BAD_ID, _BAD_CRC = b"\x40", b"\x41", b"\x42", b"\x43"


@frozen
class Efm8Kind:
    """Sizes in bytes; `number` is device and derivative."""

    title: str
    flash_bytes: int
    loader_bytes: int
    number: bytes


KINDS = {
    "efm8bb1": Efm8Kind("EFM8BB10F8, 8 KiB", 8192, 512, b"\x30\x02"),
    "efm8ub2": Efm8Kind("EFM8UB20F64, 64 KiB", 65536, 2048, b"\x28\x41"),
}


class SimulatedEfm8(SimulatedRom):
    """One chip; its bootloader is at the end of the flash."""

    measured_on = 0xFF
    taken_for = (2, 5)
    top_baud = 230_400

    def __init__(self, kind: Efm8Kind, faults: Faults | None = None) -> None:
        super().__init__(kind.flash_bytes, faults)
        self.kind = kind
        self.flash[kind.flash_bytes - kind.loader_bytes :] = b"\xa5" * kind.loader_bytes
        self._unlocked = False

    def boot(self, boot_selected: bool) -> Program:
        enters = boot_selected or self.flash[0] == 0xFF
        return self._loader() if enters and not self.faults.no_boot else self.application()

    def _loader(self) -> Program:
        self.running = self._unlocked = self._leaves = False
        self.settings = self.console
        yield Spend(0.002)
        self._measuring = True
        while not self._leaves:
            if (yield Take()) != ord("$"):
                continue
            size = yield Take()
            if size < 1:
                continue
            values = yield from self.several(size)
            data = bytes(max(0, value) for value in values)
            yield from self._record(data[0], data[1:])
        yield Spend(self.settings.seconds(3))
        self.restart(self.application())

    def _inside(self, address: int, size: int) -> bool:
        return address + size <= self.kind.flash_bytes - self.kind.loader_bytes

    def _record(self, command: int, data: bytes) -> Steps:
        address = int.from_bytes(data[:2], "big")
        if command == 0x30 and len(data) == 2:
            self.send(_OK if data == self.kind.number else _BAD_ID)
        elif command == 0x31 and data[:2] == b"\xa5\xf1":
            self._unlocked = True
            self.send(_OK)
        elif command in (0x32, 0x33) and len(data) >= 2:
            if not self._unlocked:
                self.violation(f"command {command:02X} before the keys")
                self.send(_RANGE)
                return
            start = address - address % _PAGE
            if not self._inside(start if command == 0x32 else address, max(1, len(data) - 2)):
                self.send(_RANGE)
                return
            if command == 0x32:
                yield Spend(_PAGE_S * self.faults.slow_erase)
                self.flash[start : start + _PAGE] = b"\xff" * _PAGE
            if len(data) > 2:
                yield Spend(_BYTE_S * (len(data) - 2))
                self.put(address, data[2:])
            self.send(_OK)
        elif command == 0x34 and len(data) == 6:
            last = int.from_bytes(data[2:4], "big")
            if last < address or last >= self.kind.flash_bytes:
                self.send(_RANGE)
                return
            yield Spend(_CRC_BYTE_S * (last + 1 - address))
            right = crc16(bytes(self.flash[address : last + 1])) == int.from_bytes(data[4:6], "big")
            self.send(_OK if right else _BAD_CRC)
        elif command == 0x36 and len(data) == 2:
            self.send(_OK)
            self._leaves = True
        else:
            self.violation(f"command {command:02X} with {len(data)} bytes")
            self.send(_RANGE)


def _board(name: str, circuit: Circuit) -> BenchBoard:
    return board_of(KINDS[name], SimulatedEfm8, any_kind(samples.plain_image), name, circuit, FAN)


BOARDS = (_board("efm8bb1", DtrResetRtsBoot("low")), _board("efm8ub2", RtsResetDtrBoot("low")))
