"""Simulated MSPM0 with the bootstrap loader in their ROM, from SLAU887. Boards: mspm0l1306, mspm0g3507.

| what | the loader |
|---|---|
| stays | its pin at reset, or a blank chip |
| every packet | a byte that it arrived, then, for most, an answer with CRC-32 |
| password (21) | opens it; the third wrong one erases all, `wrong` |
| erase | 15 main memory, 23 the sectors of a range |
| program (20) | 64 bits at a time, onto blank |
| CRC (26) | of exactly the range, at least 1 KiB, from the flash |
| read (29) | only where the configuration allows it, `reads` |
| device info (19) | versions and buffer, no number of the part |
| start (40) | acknowledged, then a reset |

Stricter than silicon: 64 bits that are not blank are never programmed; a sum of less than 1 KiB is refused. A wrong
password is counted, and the third erases the chip.
"""

from __future__ import annotations

import random
import zlib
from collections.abc import Generator

from greenstep.core.frozen import frozen
from greenstep.core.image import Image, Piece
from greenstep.core.link import LineSettings

from ..boards import FAN, BenchBoard, board_of
from ..chip import Program, Spend, Take, Wish
from ..circuits import Circuit, DtrResetRtsBoot, RtsResetDtrBoot
from ..faults import Faults
from ..rom import SimulatedRom
from ..samples import body_of

Steps = Generator[Wish, int, None]
_SECTOR, _SECTOR_S, _WORD_S, _CRC_BYTE_S = 1024, 0.004, 50e-6, 0.5e-6
_RATES = {1: 4800, 2: 9600, 3: 19200, 4: 38400, 5: 57600, 6: 115200, 7: 1_000_000}
_OK, _LOCKED, _PASSWORD, _UNKNOWN, _RANGE, _READ_OFF, _ALIGNMENT, _LENGTH = 0, 1, 2, 4, 5, 9, 10, 11


@frozen
class Mspm0Kind:
    """Sizes in bytes. `reads`: memory may be read back."""

    title: str
    flash_bytes: int
    ram_bytes: int
    buffer: int
    reads: bool = True
    password: bytes = b"\xff" * 32


KINDS = {
    "mspm0l1306": Mspm0Kind("MSPM0L1306, 64 KiB", 64 * 1024, 4096, 260),
    "mspm0g3507": Mspm0Kind("MSPM0G3507, 128 KiB", 128 * 1024, 32768, 1728, password=b"bees" * 8),
}


class SimulatedMspm0(SimulatedRom):
    """One chip with its ROM."""

    def __init__(self, kind: Mspm0Kind, faults: Faults | None = None) -> None:
        super().__init__(kind.flash_bytes, faults)
        self.kind = kind
        self.wrong = 0
        self._open = False

    def boot(self, boot_selected: bool) -> Program:
        blank = not self.flash[:8].strip(b"\xff")
        return self._loader() if (boot_selected or blank) and not self.faults.no_boot else self.application()

    def _loader(self) -> Program:
        self.running = self._open = self._leaves = False
        self.settings = LineSettings(9600)
        yield Spend(0.01)
        while not self._leaves:
            start = yield Take()
            if start != 0x80:
                self.send(b"\x51")
                continue
            head = yield from self.several(2)
            size = head[0] | head[1] << 8 if min(head) >= 0 else 0
            if not 0 < size <= self.kind.buffer:
                self.send(b"\x54" if size else b"\x53")
                continue
            rest = yield from self.several(size + 4)
            core = bytes(max(0, value) for value in rest[:-4])
            told = bytes(max(0, value) for value in rest[-4:])
            if min(rest) < 0 or (zlib.crc32(core) ^ 0xFFFFFFFF).to_bytes(4, "little") != told:
                self.send(b"\x52")
                continue
            yield from self._command(core[0], core[1:])
        yield Spend(self.settings.seconds(3))
        self.restart(self.application())

    def _say(self, core: bytes) -> None:
        check = (zlib.crc32(core) ^ 0xFFFFFFFF).to_bytes(4, "little")
        self.send(b"\x08" + len(core).to_bytes(2, "little") + core + check)

    def _message(self, status: int) -> None:
        self._say(bytes([0x3B, status]))

    def follows(self, baud: int) -> bool:
        return super().follows(baud) and baud in _RATES.values()

    def _command(self, code: int, data: bytes) -> Steps:
        if code == 0x52 and len(data) == 1:
            if not self.follows(_RATES.get(data[0], 0)):
                self.send(b"\x56")
                return
            self.send(b"\x00")
            yield Spend(self.settings.seconds(1))
            self.settings = LineSettings(_RATES[data[0]])
            return
        self.send(b"\x00")
        if code == 0x12 and not data:
            return
        if code == 0x19 and not data:
            info = bytes.fromhex("0001 0001 00000000 0001") + self.kind.buffer.to_bytes(2, "little")
            self._say(b"\x31" + info + bytes.fromhex("A0010020 01000000 01000000"))
        elif code == 0x21 and len(data) == 32:
            yield from self._unlock(data)
        elif code == 0x40 and not data:
            self._leaves = True
        elif not self._open:
            self._message(_LOCKED)
        elif code == 0x15 and not data:
            yield Spend(self.kind.flash_bytes / _SECTOR * _SECTOR_S * self.faults.slow_erase)
            self.flash[:] = b"\xff" * len(self.flash)
            self._message(_OK)
        elif code in (0x20, 0x23, 0x26, 0x29) and len(data) >= 8:
            first, second = int.from_bytes(data[:4], "little"), int.from_bytes(data[4:8], "little")
            yield from self._memory(code, first, second, data[4:])
        else:
            self.violation(f"command {code:02X} with {len(data)} bytes")
            self._message(_UNKNOWN)

    def _unlock(self, password: bytes) -> Steps:
        if password == self.kind.password:
            self._open, self.wrong = True, 0
            self._message(_OK)
            return
        self.wrong += 1
        if self.wrong == 3:
            self.violation("three wrong passwords: erased")
            yield Spend(0.1)
            self.flash[:] = b"\xff" * len(self.flash)
        self._message(_PASSWORD)

    def _memory(self, code: int, first: int, second: int, data: bytes) -> Steps:
        size = {0x20: len(data), 0x23: second + 1 - first}.get(code, second)
        if size <= 0 or first + size > len(self.flash):
            self._message(_RANGE)
        elif code == 0x20:
            if first % 8 or size % 8:
                self.violation(f"program of {size} bytes at {first:05X}")
                self._message(_ALIGNMENT)
                return
            yield Spend(size / 8 * _WORD_S)
            self.put(first, data)
            self._message(_OK)
        elif code == 0x23:
            low, high = first // _SECTOR * _SECTOR, -(-(first + size) // _SECTOR) * _SECTOR
            yield Spend((high - low) / _SECTOR * _SECTOR_S * self.faults.slow_erase)
            self.flash[low:high] = b"\xff" * (high - low)
            self._message(_OK)
        elif code == 0x26:
            if size < 1024:
                self.violation(f"a sum of {size} bytes")
                self._message(_LENGTH)
                return
            yield Spend(size * _CRC_BYTE_S)
            found = zlib.crc32(self.flash[first : first + size]) ^ 0xFFFFFFFF
            self._say(b"\x32" + found.to_bytes(4, "little"))
        elif not self.kind.reads:
            self._message(_READ_OFF)
        elif first % 8 or size % 8 or size > self.kind.buffer - 8:
            self.violation(f"a reading of {size} bytes at {first:05X}")
            self._message(_ALIGNMENT)
        else:
            self._say(b"\x30" + bytes(self.flash[first : first + size]))


def _program(kind: Mspm0Kind, text: str, size: int, seed: int) -> Image:
    source = random.Random(seed)
    handlers = [0x100 + 2 * source.randrange(100) | 1 for _ in range(46)]
    words = (0x20000000 + kind.ram_bytes, 0xC1, *handlers)
    vectors = b"".join(word.to_bytes(4, "little") for word in words)
    return Image("smoke-fan.hex", (Piece(0, body_of(vectors, text, size, source, 0xFF)),), 0xC1, "Intel HEX")


def _board(name: str, circuit: Circuit) -> BenchBoard:
    kind = KINDS[name]
    password = (("password", kind.password.hex()),) if kind.password != b"\xff" * 32 else ()
    return board_of(kind, SimulatedMspm0, _program, name, circuit, FAN, settings=password)


BOARDS = (_board("mspm0l1306", DtrResetRtsBoot()), _board("mspm0g3507", RtsResetDtrBoot()))
