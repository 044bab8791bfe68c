"""Simulated PSoC with their maker's bootloader component, from AN60317. Boards: cy8c4245, cy8c5888.

| what | the loader |
|---|---|
| stays | for a time after a reset, or without a valid application |
| packet | sum or CRC-16, as its project has it, `crc` |
| enter (38) | silicon id, revision, version |
| program row (39) | erases and writes that row, with what was sent before by 37 |
| verify row (3A) | an 8-bit sum of the row, from the flash, or its complement, `tells` |
| checksum (31) | whether the sum of the application is the one in its last row |
| exit (3B) | not answered: a reset |
| remembered over a reset | nothing but the flash |

Stricter than silicon: a packet longer than its buffer, a row of a wrong length and a row of the loader's are noted.
"""

from __future__ import annotations

import random
from collections.abc import Generator

from greenstep.core.frozen import frozen
from greenstep.core.image import Image, Piece
from greenstep.core.link import LineSettings

from .. import application
from ..boards import FAN, BenchBoard, board_of
from ..chip import TIMED_OUT, Program, Spend, Take, Wish
from ..circuits import CapacitorPulse, Circuit
from ..faults import Faults
from ..resident import SimulatedResident
from ..samples import body_of

Steps = Generator[Wish, int, None]
_ROW_S, _LISTENS_S, _PACKET = 0.02, 2.0, 64
_OK, _LENGTH, _DATA, _COMMAND, _CHECKSUM, _ARRAY, _ROW = 0, 3, 4, 5, 8, 9, 10


@frozen
class PsocKind:
    """`row` is the bytes of a row, `rows` those of an array; an application begins at row `first`. `crc`: packets
    have a CRC. `tells` is how a row's sum is told: of its bytes (0 complement, 1 plain)."""

    title: str
    row: int
    rows: int
    arrays: int
    first: int
    silicon: int
    crc: bool = False
    tells: int = 0


KINDS = {
    "cy8c4245": PsocKind("CY8C4245, 32 KiB", 128, 256, 1, 40, 0x04C81193),
    "cy8c5888": PsocKind("CY8C5888, 256 KiB", 288, 256, 4, 28, 0x2E16A069, crc=True, tells=1),
}


def _crc(data: bytes) -> int:
    """AN60317, "CRC-16-CCITT": lowest bit first."""
    value = 0xFFFF
    for byte in data:
        for _ in range(8):
            value = value >> 1 ^ 0x8408 if (value ^ byte) & 1 else value >> 1
            byte >>= 1
    value = ~value & 0xFFFF
    return (value << 8 | value >> 8) & 0xFFFF


class SimulatedPsoc(SimulatedResident):
    """One chip. Rows lie one behind the other in `flash`; the last one has the application's length and checksum."""

    def __init__(self, kind: PsocKind, faults: Faults | None = None) -> None:
        super().__init__(faults, kind.row * kind.rows * kind.arrays, LineSettings(115200))
        self.flash[:] = bytes(len(self.flash))
        self.kind = kind
        self._buffer = b""
        self._leaves = False

    def program(self) -> Program:
        self.running = True
        return application.run(self, bytes(self.flash), self.console, self.faults)

    def _valid(self) -> bool:
        last = bytes(self.flash[-self.kind.row :])
        length = int.from_bytes(last[9:13], "little")
        begin = self.kind.first * self.kind.row
        return bool(length) and -sum(self.flash[begin : begin + length]) & 0xFF == last[0]

    def loader(self) -> Program:
        self.running = self._leaves = False
        self._buffer = b""
        self.settings = self.console
        yield Spend(0.01)
        entered = False
        while not self._leaves:
            start = yield Take(None if entered or not self._valid() else _LISTENS_S)
            if start == TIMED_OUT:
                break
            if start != 0x01:
                continue
            head = yield from self.several(3, 0.1)
            if len(head) < 3 or min(head) < 0:
                continue
            size = head[1] | head[2] << 8
            if size + 7 > _PACKET:
                self.violation(f"a packet of {size + 7} bytes")
                self._say(_LENGTH)
                continue
            rest = yield from self.several(size + 3, 0.1)
            if len(rest) < size + 3 or min(rest) < 0:
                continue
            body, check = bytes([1, *head, *rest[:size]]), rest[size] | rest[size + 1] << 8
            if rest[-1] != 0x17:
                self._say(_DATA)
            elif check != self._check(body):
                self._say(_CHECKSUM)
            elif head[0] == 0x38:
                entered, self._buffer = True, b""
                self._say(_OK, self.kind.silicon.to_bytes(4, "little") + bytes.fromhex("11 01 1E 00"))
            elif entered:
                yield from self._command(head[0], body[4:])
        yield Spend(0.002)
        self.restart(self.program())

    def _check(self, body: bytes) -> int:
        return _crc(body) if self.kind.crc else -sum(body) & 0xFFFF

    def _say(self, status: int, data: bytes = b"") -> None:
        body = bytes([1, status]) + len(data).to_bytes(2, "little") + data
        self.send(body + self._check(body).to_bytes(2, "little") + b"\x17")

    def _command(self, code: int, data: bytes) -> Steps:
        if code == 0x35:
            self._buffer = b""
        elif code == 0x3B:
            self._leaves = True
        elif code == 0x31:
            yield Spend(0.01)
            self._say(_OK, bytes([self._valid()]))
        elif code == 0x32 and len(data) == 1:
            first = self.kind.first if not data[0] else 0
            known = data[0] < self.kind.arrays
            last = (self.kind.rows - 1).to_bytes(2, "little")
            self._say(_OK if known else _ARRAY, first.to_bytes(2, "little") + last if known else b"")
        elif code == 0x37:
            fits = len(self._buffer) + len(data) <= self.kind.row
            self._buffer = self._buffer + data if fits else b""
            self._say(_OK if fits else _LENGTH)
        elif code in (0x39, 0x3A) and len(data) >= 3:
            yield from self._row(code, data[0], data[1] | data[2] << 8, data[3:])
        else:
            self.violation(f"command {code:02X} with {len(data)} bytes")
            self._say(_COMMAND)

    def _row(self, code: int, array: int, row: int, data: bytes) -> Steps:
        if array >= self.kind.arrays or row >= self.kind.rows:
            self._buffer = b""
            self._say(_ARRAY if array >= self.kind.arrays else _ROW)
            return
        at = (array * self.kind.rows + row) * self.kind.row
        if code == 0x3A:
            own = sum(self.flash[at : at + self.kind.row])
            self._say(_OK, bytes([(own if self.kind.tells else -own) & 0xFF]))
            return
        content, self._buffer = self._buffer + data, b""
        if len(content) != self.kind.row:
            self.violation(f"a row of {len(content)} bytes")
            self._say(_LENGTH)
        elif not array and row < self.kind.first:
            self.violation(f"row {row} is the loader's")
            self._say(_ROW)
        else:
            yield Spend(_ROW_S)
            self.put(at, content, False)
            self._say(_OK)


def _program(kind: PsocKind, text: str, size: int, seed: int) -> Image:
    """Rows from the first on, and the last one with what the loader looks for."""
    source = random.Random(seed)
    begin = kind.first * kind.row
    body = body_of(bytes.fromhex("00100020 41140000"), text, size, source, 0x00)
    body = body.ljust(-(-len(body) // kind.row) * kind.row, b"\x00")
    last = bytes([-sum(body) & 0xFF]) + begin.to_bytes(4, "little") + (kind.first - 1).to_bytes(4, "little")
    last = (last + len(body).to_bytes(4, "little")).ljust(kind.row, b"\x00")
    end = kind.row * kind.rows * kind.arrays
    pieces: tuple[Piece, ...] = (Piece(begin, body), Piece(end - kind.row, last))
    if begin + len(body) > end - kind.row:
        pieces = (Piece(begin, body + last),)
    return Image("smoke-fan.cyacd", pieces, None, "PSoC rows", (), f"{kind.silicon:08X} 11 {int(kind.crc):02X}")


def _board(name: str, circuit: Circuit) -> BenchBoard:
    return board_of(KINDS[name], SimulatedPsoc, _program, name, circuit, FAN)


BOARDS = (_board("cy8c4245", CapacitorPulse("dtr")), _board("cy8c5888", CapacitorPulse("rts")))
