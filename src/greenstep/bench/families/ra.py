"""Simulated Renesas RA with the boot firmware in their ROM, from R01AN5372. Boards: ra4m1, ra6m3.

| what | the firmware |
|---|---|
| area (3B) | kind 0 code, 1 data (10 on parts with TrustZone), 2 configuration; place, erase and write unit of each |
| erase (12) | the blocks of a range, which must begin and end at blocks |
| write (13) | a range, then its data in packets; data flash too |
| read (15) | any range, 1024 bytes a packet |
| CRC-32 (18) | of exactly the range, code flash; `inverted` at the end or not; `sums_data`: data flash too |
| reset | has no command: the pin MD and RES |
| status | command, or command + 80h and a code |
| remembered over a reset | nothing but the flash, and the rate is 9600 again |

Stricter than silicon: a write or an erase off its unit, onto what is not blank, or into configuration is refused and
noted.
"""

from __future__ import annotations

import random
import zlib
from collections.abc import Generator

from greenstep.core.frozen import frozen
from greenstep.core.image import Image, Piece
from greenstep.core.link import LineSettings

from .. import application
from ..boards import FAN, BenchBoard, board_of
from ..chip import Program, Spend, Take, Wish
from ..circuits import Circuit, CrossPair, DtrResetRtsBoot
from ..faults import Faults
from ..rom import SimulatedRom
from ..samples import body_of

Steps = Generator[Wish, int, None]
_DATA_AT, _DATA_BYTES, _DATA_UNIT = 0x40100000, 8192, 64
_PACKET_ERROR, _SUM_ERROR, _FLOW, _ADDRESS, _BAUD, _UNSUPPORTED, _ID = 0xC1, 0xC2, 0xC3, 0xD0, 0xD4, 0xC0, 0xDB


@frozen
class RaKind:
    """`blocks` are runs of (count, bytes); sizes in bytes, times in seconds. `id_code`: it wants that first."""

    title: str
    blocks: tuple[tuple[int, int], ...]
    unit: int
    unit_s: float
    erase_s: float
    ram: tuple[int, int]
    inverted: bool = True
    id_code: bytes = b""

    @property
    def flash_bytes(self) -> int:
        return sum(number * size for number, size in self.blocks)


KINDS = {
    "ra4m1": RaKind("RA4M1, 256 KiB", ((128, 2048),), 8, 45e-6, 0.006, (0x20000000, 32 * 1024)),
    "ra6m3": RaKind(
        "RA6M3, 2 MiB", ((8, 8192), (62, 32768)), 128, 750e-6, 0.1, (0x1FFE0000, 640 * 1024), False,
        bytes.fromhex("48495645 2D37 FFFFFFFFFFFFFFFF FFFF"),
    ),
}  # fmt: skip


class SimulatedRa(SimulatedRom):
    """One chip with its ROM."""

    top_baud = 1_000_000

    def __init__(self, kind: RaKind, faults: Faults | None = None) -> None:
        super().__init__(kind.flash_bytes, faults)
        self.kind = kind
        self.data = bytearray(b"\xff") * _DATA_BYTES
        self.data_kind = 1
        self.sums_data = False
        self._open = False

    def boot(self, boot_selected: bool) -> Program:
        return self._loader() if boot_selected and not self.faults.no_boot else self.application()

    def _loader(self) -> Program:
        self.running = False
        self._open = not self.kind.id_code
        self.settings = LineSettings(9600)
        yield Spend(0.01)
        zeros = 0
        while True:
            value = yield Take()
            zeros = zeros + 1 if value == 0 else 0
            if value < 0:
                self.violation("a character that is none at 9600 baud")
            if zeros == 2:
                self.send(b"\x00")
                break
        while (value := (yield Take())) == 0:
            pass
        if value != 0x55:
            self.violation(f"{value:02X} in place of 55")
            yield from application.idle(1e9)
        self.send(b"\xc3")
        while True:
            start = yield Take()
            if start == 0x01:
                found = yield from self._packet()
                if found is not None:
                    yield from self._command(found[0], found[1:])

    def _packet(self) -> Generator[Wish, int, bytes | None]:
        head = yield from self.several(2)
        size = head[0] << 8 | head[1] if min(head) >= 0 else 0
        if not 0 < size <= 1025:
            self._refuse(0, _PACKET_ERROR)
            return None
        rest = yield from self.several(size + 2)
        if min(rest) < 0 or rest[-1] != 0x03:
            self._refuse(rest[0], _PACKET_ERROR)
            return None
        if (sum(head) + sum(rest[:-1])) & 0xFF:
            self._refuse(rest[0], _SUM_ERROR)
            return None
        return bytes(rest[:-2])

    def _say(self, code: int, data: bytes) -> None:
        body = (len(data) + 1).to_bytes(2, "big") + bytes([code]) + data
        self.send(b"\x81" + body + bytes([-sum(body) & 0xFF, 0x03]))

    def _refuse(self, code: int, status: int) -> None:
        self._say(max(0, code) & 0x7F | 0x80, bytes([status]))

    def follows(self, baud: int) -> bool:
        return super().follows(baud) and baud <= self.top_baud

    def _command(self, code: int, data: bytes) -> Steps:
        words = [int.from_bytes(data[at : at + 4], "big") for at in range(0, len(data) // 4 * 4, 4)]
        if code == 0x00 and not data:
            self._say(0, b"\x00")
        elif code == 0x30 and len(data) == 16:
            if self.kind.id_code and data != self.kind.id_code:
                self._refuse(code, _ID)
                return
            self._open = True
            self._say(code, b"\x00")
        elif not self._open:
            self._refuse(code, _FLOW)
        elif code == 0x34 and len(data) == 4:
            if words[0] < 9600 or not self.follows(words[0]):
                self._refuse(code, _BAUD)
                return
            self._say(code, b"\x00")
            yield Spend(self.settings.seconds(7))
            self.settings = LineSettings(words[0])
        elif code == 0x3A and not data:
            areas = len(self.kind.blocks) + 2
            body = (50_000_000).to_bytes(4, "big") + (1_000_000).to_bytes(4, "big") + bytes([areas]) + bytes(15)
            self._say(code, body + self.kind.title.split(",")[0].encode().ljust(16, b" "))
        elif code == 0x3B and len(data) == 1:
            self._area(data[0])
        elif code in (0x12, 0x13, 0x15, 0x18) and len(data) == 8:
            yield from self._memory(code, words[0], words[1])
        else:
            self.violation(f"command {code:02X} with {len(data)} bytes")
            self._refuse(code, _UNSUPPORTED)

    def _area(self, number: int) -> None:
        areas, start = [], 0
        for count, size in self.kind.blocks:
            areas.append((0, start, start + count * size - 1, size, self.kind.unit))
            start += count * size
        areas += [
            (self.data_kind, _DATA_AT, _DATA_AT + _DATA_BYTES - 1, _DATA_UNIT, 1),
            (2, 0x01010000, 0x01010033, 0, 4),
        ]
        if number >= len(areas):
            self._refuse(0x3B, _ADDRESS)
            return
        kind, *words = areas[number]
        self._say(0x3B, bytes([kind]) + b"".join(word.to_bytes(4, "big") for word in words))

    def _block_at(self, address: int) -> int:
        """The size of the block that begins there; 0 if none does."""
        start = 0
        for count, size in self.kind.blocks:
            if address < start + count * size:
                return size if (address - start) % size == 0 else 0
            start += count * size
        return 0

    def _memory(self, code: int, start: int, end: int) -> Steps:
        size = end + 1 - start
        if _DATA_AT <= start <= end < _DATA_AT + _DATA_BYTES:
            yield from self._data_flash(code, start - _DATA_AT, size)
            return
        if size <= 0 or end >= len(self.flash):
            self._refuse(code, _ADDRESS)
        elif code == 0x15:
            if size > 1024:
                self.violation(f"a reading of {size} bytes: each further packet wants an acknowledgement")
                self._refuse(code, _ADDRESS)
                return
            self._say(code, bytes(self.flash[start : end + 1]))
        elif code == 0x18:
            yield Spend(size * 0.5e-6)
            found = zlib.crc32(self.flash[start : end + 1]) ^ (0 if self.kind.inverted else 0xFFFFFFFF)
            self._say(code, found.to_bytes(4, "big"))
        elif code == 0x12:
            at, blocks = start, 0
            while at <= end and (block := self._block_at(at)):
                at, blocks = at + block, blocks + 1
            if at != end + 1:
                self.violation(f"erase of {start:05X}-{end:05X}")
                self._refuse(code, _ADDRESS)
                return
            yield Spend(blocks * self.kind.erase_s * self.faults.slow_erase)
            self.flash[start : end + 1] = b"\xff" * size
            self._say(code, b"\x00")
        else:
            yield from self._write(start, size)

    def _data_flash(self, code: int, at: int, size: int) -> Steps:
        if code == 0x15:
            self._say(code, bytes(self.data[at : at + size]))
        elif code == 0x12 and not at % _DATA_UNIT and not size % _DATA_UNIT:
            yield Spend(size // _DATA_UNIT * 0.006)
            self.data[at : at + size] = b"\xff" * size
            self._say(code, b"\x00")
        elif code == 0x13:
            yield from self._write(_DATA_AT + at, size)
        elif code == 0x18 and self.sums_data:
            self._say(code, zlib.crc32(self.data[at : at + size]).to_bytes(4, "big"))
        else:
            self._refuse(code, _ADDRESS)

    def _write(self, start: int, size: int) -> Steps:
        if start >= _DATA_AT:
            self._say(0x13, b"\x00")
            while size:
                while (yield Take()) != 0x81:
                    pass
                found = yield from self._packet()
                if found is None:
                    continue
                data, at = found[1:], start - _DATA_AT
                if self.data[at : at + len(data)].strip(b"\xff"):
                    self.violation(f"write to {start:08X}, which is not blank")
                self.data[at : at + len(data)] = data
                start, size = start + len(data), size - len(data)
                self._say(0x13, b"\x00")
            return
        if start % self.kind.unit or size % self.kind.unit:
            self.violation(f"write of {size} bytes at {start:05X}")
            self._refuse(0x13, _ADDRESS)
            return
        self._say(0x13, b"\x00")
        while size:
            while (value := (yield Take())) not in (0x81, 0x01):
                pass
            found = yield from self._packet()
            if found is None:
                continue
            if value == 0x01:
                yield from self._command(found[0], found[1:])
                return
            data = found[1:]
            if found[0] != 0x13 or len(data) > size or len(data) % self.kind.unit:
                self.violation(f"{len(data)} bytes of data")
                self._refuse(0x13, _PACKET_ERROR)
                continue
            yield Spend(len(data) / self.kind.unit * self.kind.unit_s)
            self.put(start, data)
            start, size = start + len(data), size - len(data)
            self._say(0x13, b"\x00")


def _program(kind: RaKind, text: str, size: int, seed: int) -> Image:
    """A Cortex-M program at 0, blank where the security settings are."""
    source = random.Random(seed)
    start, ram = kind.ram
    handlers = [0x500 + 2 * source.randrange(100) | 1 for _ in range(46)]
    vectors = b"".join(word.to_bytes(4, "little") for word in (start + ram, 0x4C1, *handlers))
    body = bytearray(body_of(vectors, text, size, source, 0xFF))
    held = body[0x400:0x43C]
    body[0x400:0x43C] = b"\xff" * len(held)
    return Image("smoke-fan.hex", (Piece(0, bytes(body)),), 0x4C1, "Intel HEX")


def _board(name: str, circuit: Circuit) -> BenchBoard:
    kind = KINDS[name]
    code = (("id", kind.id_code.hex()),) if kind.id_code else ()
    return board_of(kind, SimulatedRa, _program, name, circuit, FAN, settings=code)


BOARDS = (_board("ra4m1", DtrResetRtsBoot("low")), _board("ra6m3", CrossPair()))
