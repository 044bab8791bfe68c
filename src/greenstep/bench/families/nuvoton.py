"""A simulated NuMicro with an ISP loader in its LDROM, from Nuvoton's ISP application notes. Boards: m0518, m480.

| what | the LDROM sample |
|---|---|
| connect (AE) | sets its packet number to 1; answers with the size of APROM and where data flash begins |
| sync (A4) | sets its packet number from the first word of the DATA |
| number in an answer | its own, plus one; then it goes up by two. The number in the host's packet is not looked at |
| update APROM (A0) | erases ALL of APROM, up to data flash; begins at 0 whatever address is sent; takes the length |
| data (00) | goes on where the last one ended, up to the length |
| last answer | the sum, 16 bits, of what stands in the flash over the length; `sums`: whether it has one |
| other answers | the configuration words stand at the same place; `config_everywhere` |
| run APROM (AB), reset (AD) | not answered |
| remembered over a reset | nothing |

Stricter than silicon: a host's number that is not its own is noted.
"""

from __future__ import annotations

import random
from collections.abc import Generator

from greenstep.core.frozen import frozen
from greenstep.core.image import Image, Piece
from greenstep.core.link import LineSettings

from ..boards import FAN, BenchBoard, board_of
from ..chip import TIMED_OUT, Program, Spend, Take, Wish
from ..circuits import CapacitorPulse, Circuit
from ..faults import Faults
from ..resident import SimulatedResident
from ..samples import body_of

Steps = Generator[Wish, int, None]
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
        self._number = 1
        self.tells_size = True
        self.config_everywhere = True
        self.config = b"\xff" * 8
        self._at = self._left = self._length = 0
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
        data = self.config if self.config_everywhere else b""
        if command == 0xAE:
            self._number = 1
            self._left = 0
            if self.tells_size:
                data = self._room.to_bytes(4, "little") + self._data_flash.to_bytes(4, "little")
        elif command == 0xA4:
            self._number = int.from_bytes(packet[8:12], "little")
            self._left = 0
        if number != self._number:
            self.violation(f"packet {number} where {self._number} was due")
        if command == 0xA6:
            data = b"\x31"
        elif command == 0xB1:
            data = bytes.fromhex("18051000")
        elif command == 0xA2:
            data = self.config
        elif command == 0xA0:
            data = yield from self._update(packet)
        elif command == 0x00:
            data = yield from self._data(packet[8:])
        elif command in (0xAB, 0xAD):
            self._leaves = True
            return True
        answer = (sum(packet) & 0xFFFF).to_bytes(2, "little") + bytes(2)
        answer += (self._number + 1 & 0xFFFFFFFF).to_bytes(4, "little")
        self._number = self._number + 2 & 0xFFFFFFFF
        self.send((answer + data).ljust(64, b"\x00"))
        return command == 0xAE

    @property
    def _data_flash(self) -> int:
        """Where it begins; behind everything, if it is not enabled."""
        return 0xFFFFF if self.config[0] & 1 else int.from_bytes(self.config[4:8], "little")

    @property
    def _room(self) -> int:
        return min(len(self.flash), self._data_flash)

    def _update(self, packet: bytes) -> Generator[Wish, int, bytes]:
        length = int.from_bytes(packet[12:16], "little")
        if not 0 < length <= self._room:
            self.violation(f"update of {length} bytes")
            self._left = 0
            return b""
        yield Spend(self._room // self.kind.page * _PAGE_S * self.faults.slow_erase)
        self.flash[: self._room] = b"\xff" * self._room
        self._at, self._left, self._length = 0, length, length
        return (yield from self._data(packet[16:]))

    def _data(self, data: bytes) -> Generator[Wish, int, bytes]:
        data = data[: self._left]
        usual = self.config if self.config_everywhere else b""
        if not data:
            return usual
        yield Spend(len(data) / 4 * _WORD_S)
        self.put(self._at, data)
        self._at, self._left = self._at + len(data), self._left - len(data)
        if self._left or not self.kind.sums:
            return usual
        return (sum(self.flash[: self._length]) & 0xFFFF).to_bytes(2, "little") + usual[2:]


def _program(kind: NuvotonKind, text: str, size: int, seed: int) -> Image:
    source = random.Random(seed)
    handlers = [0x100 + 2 * source.randrange(100) | 1 for _ in range(46)]
    vectors = b"".join(word.to_bytes(4, "little") for word in (0x20000000 + kind.ram_bytes, 0xC1, *handlers))
    return Image("smoke-fan.hex", (Piece(0, body_of(vectors, text, size, source, 0xFF)),), 0xC1, "Intel HEX")


def _board(name: str, circuit: Circuit) -> BenchBoard:
    return board_of(KINDS[name], SimulatedNuvoton, _program, name, circuit, FAN)


BOARDS = (_board("m0518", CapacitorPulse("dtr")), _board("m480", CapacitorPulse("rts")))
