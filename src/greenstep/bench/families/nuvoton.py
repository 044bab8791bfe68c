"""A simulated NuMicro with an ISP loader in its LDROM, from Nuvoton's ISP application notes. Boards: m0518, m480.

Stricter than silicon: a packet with a number that is not the next is not answered and noted; so is what does not
begin at a page.
"""

from __future__ import annotations

import random
from collections.abc import Generator
from functools import partial

from greenstep.core.frozen import frozen
from greenstep.core.image import Image, Piece
from greenstep.core.link import LineSettings

from ..boards import BenchBoard
from ..chip import TIMED_OUT, Program, Spend, Take, Wish
from ..circuits import CapacitorPulse, Circuit
from ..faults import Faults
from ..resident import SimulatedResident
from ..samples import body_of
from ..stock import Stock

Steps = Generator[Wish, int, None]
_FAN = ("smoke fan 0.8 ready", "smoke fan 0.9 ready")
_PAGE_S, _WORD_S, _LISTENS_S = 0.02, 50e-6, 0.3


@frozen
class NuvotonKind:
    """Sizes in bytes. `sums`: its last answer tells the sum of all."""

    title: str
    flash_bytes: int
    page: int
    ram_bytes: int
    sums: bool = True


KINDS = {
    "m0518": NuvotonKind("M0518, 64 KiB", 64 * 1024, 512, 8 * 1024),
    "m480": NuvotonKind("M480, 512 KiB", 512 * 1024, 4096, 160 * 1024, False),
}


class SimulatedNuvoton(SimulatedResident):
    """One chip that starts from its LDROM."""

    vector_bytes = 8

    def __init__(self, kind: NuvotonKind, faults: Faults | None = None) -> None:
        super().__init__(faults, kind.flash_bytes, LineSettings(115200))
        self.kind = kind
        self._number = 0
        self._at = self._left = self._sum = 0
        self._leaves = False

    def loader(self) -> Program:
        self.running = self._leaves = False
        self._left = 0
        self.settings = self.console
        yield Spend(0.005)
        connected = False
        self.keeps_early = True  # the UART has a FIFO
        while not self._leaves:
            blank = not self.flash[:8].strip(b"\xff")
            first = yield Take(None if connected or blank else _LISTENS_S)
            if first == TIMED_OUT:
                break
            rest = yield from self.several(63, None if connected else 0.1)
            values = [max(0, value) for value in (first, *rest)]
            if len(values) < 64:
                continue
            connected = (yield from self._packet(bytes(values))) or connected
        yield Spend(0.001)
        self.keeps_early = False
        self.restart(self.program())

    def _packet(self, packet: bytes) -> Generator[Wish, int, bool]:
        command, number = int.from_bytes(packet[:4], "little"), int.from_bytes(packet[4:8], "little")
        data = b""
        if command in (0xAE, 0xA4):
            self._number = number
            self._left = 0
        elif number != self._number + 2:
            self.violation(f"packet {number} after {self._number}")
            self._left = 0
        if command == 0xA6:
            data = b"\x31"
        elif command == 0xB1:
            data = bytes.fromhex("18051000")
        elif command == 0xA2:
            data = b"\xff" * 8
        elif command == 0xA0:
            data = yield from self._update(packet)
        elif command == 0x00:
            data = yield from self._data(packet[8:])
        elif command in (0xAB, 0xAD):
            self._leaves = True
            return True
        self._number = number
        answer = (
            (sum(packet) & 0xFFFF).to_bytes(2, "little") + bytes(2) + (number + 1 & 0xFFFFFFFF).to_bytes(4, "little")
        )
        self.send((answer + data).ljust(64, b"\x00"))
        return command == 0xAE

    def _update(self, packet: bytes) -> Generator[Wish, int, bytes]:
        start, length = (int.from_bytes(packet[at : at + 4], "little") for at in (8, 12))
        if start % self.kind.page or not 0 < length <= len(self.flash) - start:
            self.violation(f"update of {length} bytes at {start:05X}")
            self._left = 0
            return b""
        pages = -(-length // self.kind.page)
        yield Spend(pages * _PAGE_S * self.faults.slow_erase)
        self.flash[start : start + pages * self.kind.page] = b"\xff" * (pages * self.kind.page)
        self._at, self._left, self._sum = start, length, 0
        return (yield from self._data(packet[16:]))

    def _data(self, data: bytes) -> Generator[Wish, int, bytes]:
        data = data[: self._left]
        if not data:
            return b""
        yield Spend(len(data) / 4 * _WORD_S)
        self.put(self._at, data)
        self._at, self._left = self._at + len(data), self._left - len(data)
        self._sum += sum(self.flash[self._at - len(data) : self._at])
        return (self._sum & 0xFFFF).to_bytes(2, "little") if self.kind.sums and not self._left else b""


def _program(kind: NuvotonKind, text: str, size: int, seed: int) -> Image:
    source = random.Random(seed)
    handlers = [0x100 + 2 * source.randrange(100) | 1 for _ in range(46)]
    vectors = b"".join(word.to_bytes(4, "little") for word in (0x20000000 + kind.ram_bytes, 0xC1, *handlers))
    return Image("smoke-fan.hex", (Piece(0, body_of(vectors, text, size, source, 0xFF)),), 0xC1, "Intel HEX")


def _board(name: str, circuit: Circuit) -> BenchBoard:
    kind = KINDS[name]
    return BenchBoard(
        name, "nuvoton", name, name, circuit, 115200, _FAN,
        stock=lambda: Stock(kind.title, partial(SimulatedNuvoton, kind), partial(_program, kind)),
    )  # fmt: skip


BOARDS = (_board("m0518", CapacitorPulse("dtr")), _board("m480", CapacitorPulse("rts")))
