"""A simulated nRF52 with the serial bootloader of the nRF5 SDK, from Nordic's description of the DFU protocol. Board:
nrf52832.

| what | the loader |
|---|---|
| create (01) | an object of a packet (1) or of the program (2); the program's follow each other, page by page erased |
| CRC (03) | offset and CRC-32 of all that came of this kind, not of what stands in the flash |
| execute (04) | what is complete; the last one: the hash in the packet, over all; then it resets and runs the program |
| result | 60, operation, code; 0B is followed by another code |
| remembered over a reset | the packet and the objects that were executed |

Stricter than silicon: an object that does not follow the one before, and a frame longer than its MTU, are refused and
noted. A program is kept apart until all of it has come and its hash is that in the first packet.
"""  # noqa: E501

from __future__ import annotations

import hashlib
import random
import zlib
from collections.abc import Generator

from greenstep.core.image import Image, Piece

from ..boards import PROBE, BenchBoard
from ..chip import Program, Spend, Take, Wish
from ..circuits import DtrResetRtsBoot
from ..faults import Faults
from ..rom import SimulatedRom
from ..samples import body_of

Steps = Generator[Wish, int, None]
_FLASH, _MTU, _OBJECT, _PACKET_MOST = 0x40000, 131, 4096, 512
_PAGE_S, _WORD_S, _HASH_S = 0.085, 41e-6, 2e-6
_OK, _UNKNOWN, _PARAMETER, _RESOURCES, _OBJECT_WRONG, _TYPE, _NOT_PERMITTED, _FAILED, _EXTENDED = (
    1,
    2,
    3,
    4,
    5,
    7,
    8,
    10,
    11,
)


class SimulatedNrf5Dfu(SimulatedRom):
    """One board. `flash` is where the program runs, `bank` where it is brought."""

    def __init__(self, faults: Faults | None = None) -> None:
        super().__init__(_FLASH, faults)
        self.bank = b""
        self.packet = b""
        self._kind = 0
        self._object = b""
        self._size = 0
        self._valid = False

    def boot(self, boot_selected: bool) -> Program:
        blank = not self.flash[:8].strip(b"\xff")
        return self._loader() if (boot_selected or blank) and not self.faults.no_boot else self.application()

    def _loader(self) -> Program:
        self.running = self._valid = False
        self.keeps_early = True
        self.settings = self.console
        self._kind, self._object, self._size = 0, b"", 0
        yield Spend(0.01)
        frame = b""
        while True:
            value = yield Take()
            if value != 0xC0:
                frame += bytes([max(0, value)])
                if len(frame) > _MTU + 2:
                    frame = frame[-1:]
                continue
            told, frame = frame.replace(b"\xdb\xdc", b"\xc0").replace(b"\xdb\xdd", b"\xdb"), b""
            if told and (yield from self._operation(told[0], told[1:])):
                break
        yield Spend(self.settings.seconds(6))
        self.keeps_early = False
        self.restart(self.application())

    def _say(self, code: int, result: int, data: bytes = b"") -> None:
        body = bytes([0x60, code, result]) + data
        self.send(body.replace(b"\xdb", b"\xdb\xdd").replace(b"\xc0", b"\xdb\xdc") + b"\xc0")

    def _operation(self, code: int, data: bytes) -> Generator[Wish, int, bool]:
        """Returns whether the program starts."""
        if code == 0x08:
            if len(self._object) + len(data) <= self._size:
                self._object += data
        elif code == 0x09 and len(data) == 1:
            self._say(code, _OK, data)
        elif code == 0x02 and len(data) == 2:
            if data != b"\x00\x00":
                self.violation("notifications")
            self._say(code, _OK)
        elif code == 0x07 and not data:
            self._say(code, _OK, _MTU.to_bytes(2, "little"))
        elif code == 0x06 and len(data) == 1:
            self._select(data[0])
        elif code == 0x01 and len(data) == 5:
            yield from self._create(data[0], int.from_bytes(data[1:], "little"))
        elif code == 0x03 and not data:
            yield Spend(_WORD_S * 16)  # what is written is written meanwhile, but for the last frame
            self._say(code, _OK, self._state())
        elif code == 0x04 and not data:
            return (yield from self._execute())
        elif 1 <= code <= 0x0D:
            self._say(code, _PARAMETER)
        else:
            self._say(code, _UNKNOWN)
        return False

    def _whole(self) -> bytes:
        return (self.packet if self._kind == 1 else self.bank) + self._object

    def _state(self) -> bytes:
        whole = self._whole() if self._kind else b""
        return len(whole).to_bytes(4, "little") + zlib.crc32(whole).to_bytes(4, "little")

    def _select(self, kind: int) -> None:
        if kind not in (1, 2):
            self._say(0x06, _TYPE)
            return
        if kind != self._kind:
            self._kind, self._object, self._size = kind, b"", 0
        self._say(0x06, _OK, (_PACKET_MOST if kind == 1 else _OBJECT).to_bytes(4, "little") + self._state())

    def _create(self, kind: int, size: int) -> Steps:
        if kind not in (1, 2):
            self._say(0x01, _TYPE)
        elif not size or size > (_PACKET_MOST if kind == 1 else _OBJECT):
            self._say(0x01, _RESOURCES if size else _PARAMETER)
        elif kind == 2 and (not self._valid or len(self.bank) % _OBJECT or len(self.bank) + size > _FLASH):
            self._say(0x01, _NOT_PERMITTED)
        else:
            if kind == 1:
                self.packet, self.bank, self._valid = b"", b"", False
            else:
                yield Spend(_PAGE_S * self.faults.slow_erase)
            self._kind, self._object, self._size = kind, b"", size
            self._say(0x01, _OK)

    def _execute(self) -> Generator[Wish, int, bool]:
        if self._kind == 1 and self.packet and not self._object:  # once more: it is there
            self._valid = True
            self._say(0x04, _OK)
            return False
        if not self._kind or len(self._object) != self._size or not self._size:
            self._say(0x04, _NOT_PERMITTED)
            return False
        if self._kind == 1:
            if not self._object.startswith(b"\x12") or len(self._object) < 40:
                self._say(0x04, _EXTENDED, b"\x02")
                return False
            self.packet, self.bank, self._valid = self._object, b"", True
        else:
            self.bank += self._object
        self._object, self._size = b"", 0
        wanted = int.from_bytes(self.packet[1:5], "little")
        if self._kind == 2 and len(self.bank) >= wanted:
            return (yield from self._activate())
        self._say(0x04, _OK)
        return False

    def _activate(self) -> Generator[Wish, int, bool]:
        """All has come: its hash must be that of the packet; then it is copied to where it runs."""
        yield Spend(len(self.bank) * _HASH_S)
        came, self.bank, self._valid = self.bank, b"", False
        if hashlib.sha256(came).digest()[::-1] != self.packet[5:37] or self.faults.dead_write or self.faults.worn:
            self.packet = b""
            self._say(0x04, _EXTENDED, b"\x0a")
            return False
        self._say(0x04, _OK)
        self.flash[:] = came.ljust(_FLASH, b"\xff")
        yield Spend(0.2)
        self.packet = b""
        return True


def _program(text: str, size: int, seed: int) -> Image:
    """And the packet before it: its size and the hash, lowest byte first."""
    source = random.Random(seed)
    handlers = [0x26100 + 2 * source.randrange(100) | 1 for _ in range(46)]
    vectors = b"".join(word.to_bytes(4, "little") for word in (0x20010000, 0x26201, *handlers))
    body = body_of(vectors, text, size, source, 0xFF)
    packet = b"\x12" + len(body).to_bytes(4, "little") + hashlib.sha256(body).digest()[::-1] + bytes(range(64))
    return Image("brood-probe.zip", (Piece(0, body),), None, "DFU package", (), packet.hex())


BOARDS = (
    BenchBoard(
        "nrf52832", "nrf52832", "nRF52832 with the SDK's serial bootloader", SimulatedNrf5Dfu, _program,
        DtrResetRtsBoot("low"), PROBE, dialect="nrf5-dfu",
    ),
)  # fmt: skip
