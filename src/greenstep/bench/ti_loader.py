"""What the serial loaders in TI's ROMs have in common (SWRA466, "Bootloader interface"; data sheets of Tiva C): the
rate from 55 55, packets with a sum, acknowledgements, a status.

Stricter than silicon: data that is not announced, or programmed over what is not blank, is noted.
"""

from __future__ import annotations

import random
from abc import abstractmethod
from collections.abc import Generator

from greenstep.core.frozen import frozen
from greenstep.core.image import Image, Piece

from . import application
from .chip import Program, Spend, Take, Wish
from .faults import Faults
from .rom import SimulatedRom
from .samples import body_of

Steps = Generator[Wish, int, None]
OK, UNKNOWN, INVALID, BAD_ADDRESS, FAILED = 0x40, 0x41, 0x42, 0x43, 0x44
_ACK, _NAK = b"\x00\xcc", b"\x00\x33"
_BOOT_S = 0.005


@frozen
class TiKind:
    """What distinguishes one chip from another: sizes in bytes, times in seconds."""

    title: str
    flash_bytes: int
    unit: int
    erase_s: float
    base: int = 0
    word_s: float = 8e-6
    ram_bytes: int = 20 * 1024
    checks_cells: bool = False
    """Whether its flash controller compares what was programmed."""


class TiLoader(SimulatedRom):
    """One chip with its loader."""

    measured_on = 0x55
    taken_for = (3, 7)
    top_baud = 500_000

    def __init__(self, kind: TiKind, faults: Faults | None = None) -> None:
        super().__init__(kind.flash_bytes, faults)
        self.kind = kind
        self.base = kind.base
        self.status = OK
        self.at = self.left = 0

    # --- from reset

    @abstractmethod
    def enters(self, boot_selected: bool) -> bool:
        """Whether the ROM goes to its loader, by what stands in the flash and by the pin."""

    def boot(self, boot_selected: bool) -> Program:
        if self.enters(boot_selected) and not self.faults.no_boot:
            return self._loader()
        return self.application()

    def _loader(self) -> Program:
        self.running = self._leaves = False
        self.settings = self.console
        self.status, self.at, self.left = OK, 0, 0
        yield Spend(_BOOT_S)
        self._measuring = True
        self.keeps_early = True  # the UART has a FIFO
        first = yield Take()
        second = yield Take()
        if (first, second) != (0x55, 0x55):
            yield from application.idle(1e9)
        self.send(_ACK)
        while not self._leaves:
            yield from self._packet()
        yield Spend(self.settings.seconds(4))
        self.keeps_early = False
        self.restart(self.boot(False))

    def _nonzero(self) -> Generator[Wish, int, int]:
        while (value := (yield Take())) == 0:
            pass
        return value

    def _packet(self) -> Steps:
        size = yield from self._nonzero()
        if size < 3:
            self.send(_NAK)
            return
        values = yield from self.several(size - 1)
        if min(values) < 0 or sum(values[1:]) & 0xFF != values[0]:
            self.send(_NAK)
            return
        self.send(_ACK)
        yield from self.command(values[1], bytes(values[2:]))

    def answer(self, data: bytes) -> Steps:
        """A packet to the host, again as long as it says no."""
        while True:
            self.send(bytes([len(data) + 2, sum(data) & 0xFF]) + data)
            if (yield from self._nonzero()) != _NAK[1]:
                return

    @abstractmethod
    def command(self, number: int, rest: bytes) -> Steps:
        """A command whose packet was acknowledged."""

    # --- what all of them know

    def inside(self, address: int, size: int) -> bool:
        return self.base <= address and address + size <= self.base + len(self.flash)

    def wipe(self, address: int, size: int) -> Steps:
        """Erase whole units."""
        units = -(-size // self.kind.unit)
        yield Spend(units * self.kind.erase_s * self.faults.slow_erase)
        at = address - self.base
        self.flash[at : at + units * self.kind.unit] = b"\xff" * (units * self.kind.unit)

    def take_data(self, data: bytes) -> Steps:
        """Program what was announced."""
        if not data or len(data) % 4 or len(data) > self.left:
            self.violation(f"{len(data)} bytes of data, {self.left} announced")
            self.status = INVALID
            return
        yield Spend(len(data) / 4 * self.kind.word_s)
        self.put(self.at, data)
        at = self.at - self.base
        took = not self.kind.checks_cells or self.flash[at : at + len(data)] == data
        self.at += len(data)
        self.left -= len(data)
        self.status = OK if took else FAILED


def numbers(rest: bytes) -> list[int]:
    """Words, high byte first."""
    return [int.from_bytes(rest[at : at + 4], "big") for at in range(0, len(rest), 4)]


def cortex_m_image(
    text: str, size: int, seed: int, start: int, ram_bytes: int, more: tuple[Piece, ...] = ()
) -> Image:
    """A Cortex-M program at `start`, and what else its file holds."""
    source = random.Random(seed)
    handlers = [start + 0x100 + 2 * source.randrange(200) | 1 for _ in range(47)]
    vectors = b"".join(word.to_bytes(4, "little") for word in (0x20000000 + ram_bytes, start + 0xC1, *handlers))
    body = body_of(vectors, text, size, source, 0xFF)
    return Image("smoke-fan.hex", (Piece(start, body), *more), start + 0xC1, "Intel HEX")
