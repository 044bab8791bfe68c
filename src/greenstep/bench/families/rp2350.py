"""A simulated RP2350 with the UART boot of its ROM, from the data sheet, "UART boot". Board: rp2350.

| what | the ROM |
|---|---|
| stays | BOOTSEL with SD1 high at reset; knocked by 56 FF 8B E4 |
| w, r | 32 bytes of RAM at a place that counts on |
| c | the place is the beginning again |
| n, v | nothing; the version |
| x | runs what is in RAM, if it has an image definition |
| erased, summed, remembered over a reset | nothing |

Stricter than silicon: what does not end in the RAM, more than 32 characters that wait in its UART, and an image
without an image definition are noted.
"""

from __future__ import annotations

import random
from collections.abc import Generator

from greenstep.core.image import Image, Piece
from greenstep.core.link import LineSettings

from ..boards import GATEWAY, BenchBoard
from ..chip import TIMED_OUT, Program, Spend, Take, Wish
from ..circuits import DtrResetRtsBoot
from ..faults import Faults
from ..ram_loader import SimulatedRamLoader
from ..samples import body_of

_RAM, _RAM_BYTES, _BAUD, _FIFO = 0x20000000, 520 * 1024, 1_000_000, 32
_KNOCK = bytes.fromhex("56 FF 8B E4")
_BEGIN, _END = (0xFFFFDED3).to_bytes(4, "little"), (0xAB123579).to_bytes(4, "little")


class SimulatedRp2350(SimulatedRamLoader):
    """One chip."""

    def __init__(self, faults: Faults | None = None) -> None:
        super().__init__(faults, _RAM_BYTES, LineSettings(115200), _RAM)
        self._at = 0
        self._sending: list[float] = []

    def boot(self, boot_selected: bool) -> Program:
        self.begin()
        return self._loader() if boot_selected and not self.faults.no_boot else self.own_program()

    def _loader(self) -> Program:
        self.running = False
        self.settings = LineSettings(_BAUD)
        self._at, self._sending = 0, []
        yield Spend(0.002)
        heard = b""
        while heard != _KNOCK:
            value = yield Take()
            heard = (heard + bytes([max(0, value)]))[-4:]
        while (yield from self._command()):
            pass
        self.restart(self.loaded_program())

    def _say(self, data: bytes) -> None:
        """It takes commands as fast as it can answer; what comes meanwhile waits in the UART."""
        self._sending = [free_s for free_s in self._sending if free_s > self.now]
        if len(self._sending) >= _FIFO:
            self.violation("more than 32 characters wait in its UART")
        last_s = max(self._sending[-1] if self._sending else 0.0, self.now)
        self._sending.append(last_s + self.settings.seconds(len(data)))
        self.send(data)

    def _command(self) -> Generator[Wish, int, bool]:
        """One command. Returns whether it waits for another."""
        command = yield Take()
        if command == ord("n"):
            self._say(b"n")
        elif command == ord("c"):
            self._at = 0
            self._say(b"c")
        elif command == ord("v"):
            self._say(bytes.fromhex("02000000") + b"v")
        elif command == ord("w"):
            values = yield from self.several(32)
            if self._at + 32 > len(self.flash):
                self.violation("writes past the RAM")
                return True
            self.put(_RAM + self._at, bytes(max(0, value) for value in values), False)
            self._at += 32
            self._say(b"w")
        elif command == ord("r"):
            self._say(bytes(self.flash[self._at : self._at + 32]).ljust(32, b"\x00") + b"r")
            self._at += 32
        elif command == ord("x"):
            at = self.flash.find(_BEGIN, 0, 4096)
            if at < 0 or self.flash.find(_END, at, at + 640) < 0:
                self.violation("no image definition")
                return True
            self._say(b"x")
            yield Spend(self.settings.seconds(3))
            return False
        elif command == TIMED_OUT:
            return False
        return True


def _program(text: str, size: int, seed: int) -> Image:
    source = random.Random(seed)
    handlers = [_RAM + 0x100 + 2 * source.randrange(100) | 1 for _ in range(46)]
    vectors = b"".join(word.to_bytes(4, "little") for word in (_RAM + _RAM_BYTES, _RAM + 0x141, *handlers))
    definition = _BEGIN + bytes.fromhex("42012110 FF010000 00000000") + _END
    body = body_of(vectors + definition, text, size, source, 0x00)
    return Image("apiary-gateway.hex", (Piece(_RAM, body),), _RAM + 0x141, "Intel HEX")


BOARDS = (
    BenchBoard(
        "rp2350", "rp2350", "RP2350, 520 KiB RAM", SimulatedRp2350, _program, DtrResetRtsBoot("low"), GATEWAY, _BAUD
    ),
)  # fmt: skip
