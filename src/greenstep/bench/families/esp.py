"""Simulated ESP chips in their ROM, from Espressif's serial protocol description and the technical reference manuals.
Boards: apiary-gateway, rain-gauge, esp8266, esp32, esp32s3, esp32c3, esp32c2, esp32p4.

| what | the ROM |
|---|---|
| begin (02, 10) | erases the sectors of the size from a sector on; the ESP8266 counts those up to the next 64 KiB block twice |
| data | XOR of its bytes, 8 bits; deflated data from the ESP32 on |
| MD5 (13) | from the ESP32 on: of exactly the range; the flash chip ignores address bits that it does not have |
| end (04) | 0: acknowledged, and resets; the pins decide what follows, and the ROM prints it |
| status | first byte not 0: refused |
| fuses of the ESP32 | crypt count 3FF5A000 bits 26:20; secure boot V1 and V2 at 3FF5A018 bits 4 and 5 |
| flash chip | its number by 9F, tables by 5A (JESD216) if it has any; number FF FF FF: there is none |
| remembered over a reset | nothing but the flash |

Stricter than silicon: a flash command before the flash is attached, a block out of order, of another size than
announced or to space that is not erased is refused or noted; compressed data that does not unpack is refused.
"""  # noqa: E501

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Generator
from dataclasses import field
from functools import reduce
from operator import xor

from greenstep.core.frozen import changing, frozen
from greenstep.core.image import Image
from greenstep.core.link import LineSettings

from .. import application, samples
from ..boards import GATEWAY, GAUGE, BenchBoard, board_of
from ..chip import DAMAGED, Program, SimulatedChip, Spend, Take, Wish
from ..circuits import CrossPair
from ..faults import Faults

Steps = Generator[Wish, int, None]
_FRAME_ENDS = frozenset({0xC0})
_SECTOR, _ERASE_S, _PAGE_S, _MD5_S = 4096, 0.045, 0.0007, 0.4 / (1 << 20)

_SIZELESS = 0x01861F
"""The number of a flash chip that does not tell its size."""


@frozen
class EspKind:
    """What distinguishes one chip from another. `spi` are base and offsets of user, user1, user2, data and length
    registers."""

    title: str
    rom_word: int
    spi: tuple[int, int, int, int, int, int]
    flash_bytes: int = 4 << 20
    jedec_id: int = 0x164068
    boot: int = 0x1000
    chip_id: int | None = None
    first: bool = False
    mac: dict[int, int] = field(default_factory=dict)
    crystal_mhz: int = 40
    """If it is 26, the ROM still assumes 40: a change of rate ends at 26/40 of what was asked."""


KINDS = {
    "esp8266": EspKind(
        "ESP8266, 4 MiB", 0xFFF0C101, (0x60000200, 0x1C, 0x20, 0x24, 0x40, 0), boot=0, first=True,
        mac={0x3FF00050: 0x5A000000, 0x3FF00054: 0x0200A1B2, 0x3FF00058: 0x0, 0x3FF0005C: 0x02A0B0},
    ),
    "esp32": EspKind(
        "ESP32, 4 MiB", 0x00F01D83, (0x3FF42000, 0x1C, 0x20, 0x24, 0x80, 0x2C), chip_id=0,
        mac={0x3FF5A004: 0xB0C0D0E0, 0x3FF5A008: 0x123402A1},
    ),
    "esp32s3": EspKind(
        "ESP32-S3, 8 MiB", 0x9, (0x60002000, 0x18, 0x1C, 0x20, 0x58, 0x28), 8 << 20, 0x174020, 0, 9,
        mac={0x60007044: 0xB0C0D0E1, 0x60007048: 0x02A2},
    ),
    "esp32c3": EspKind(
        "ESP32-C3, 4 MiB, a new mask", 0x7C31506F, (0x60002000, 0x18, 0x1C, 0x20, 0x58, 0x28), boot=0, chip_id=5,
        mac={0x60008844: 0xB0C0D0E2, 0x60008848: 0x02A3},
    ),
    "esp32c2": EspKind(
        "ESP32-C2, 4 MiB, 26 MHz", 0x6F51306F, (0x60002000, 0x18, 0x1C, 0x20, 0x58, 0x28), boot=0, chip_id=12,
        mac={0x60008840: 0xB0C0D0E3, 0x60008844: 0x02A4}, crystal_mhz=26,
    ),
    "esp32p4": EspKind(
        "ESP32-P4, 16 MiB", 0x0FC0A0F2, (0x5008D000, 0x18, 0x1C, 0x20, 0x58, 0x28), 16 << 20, 0x184020, 0x2000, 18,
        mac={0x5012D044: 0xB0C0D0E4, 0x5012D048: 0x02A5},
    ),
}  # fmt: skip


@changing
class _Write:
    """What a begin announced."""

    deflated: bool
    size: int
    number: int
    block: int
    offset: int
    next: int = 0
    unpack: object = None
    written: int = 0


class SimulatedEsp(SimulatedChip):
    """One chip with its flash chip."""

    def __init__(self, kind: EspKind, faults: Faults | None = None) -> None:
        super().__init__()
        self.kind = kind
        self.faults = faults or Faults()
        self.flash = bytearray(b"\xff") * kind.flash_bytes
        self.rom_line = LineSettings(74880 if kind.first or kind.crystal_mhz == 26 else 115200)
        self.console = LineSettings(115200)
        self.settings = self.rom_line
        self.running = False
        self._measuring = False
        self._registers: dict[int, int] = {}
        self.jedec_id = kind.jedec_id
        self.sfdp = b""
        self.fuse_words: dict[int, int] = {}
        self.stays = False
        """Whether a reset by its command finds the boot pin still held."""
        self._attached = False
        self._sized = False
        self._write: _Write | None = None
        self._reboot = False

    # --- from reset

    def boot(self, boot_selected: bool) -> Program:
        self.running = not boot_selected
        return self._loader() if boot_selected else self._application()

    def _application(self) -> Program:
        self.running = True
        self.settings = self.rom_line
        yield Spend(0.03)
        if self.kind.first:
            self.send(b"\r\n ets Jan  8 2013,rst cause:2, boot mode:(3,6)\r\n")
        else:
            self.send(b"rst:0x1 (POWERON_RESET),boot:0x13 (SPI_FAST_FLASH_BOOT)\r\n")
        head = bytes(self.flash[self.kind.boot : self.kind.boot + 4])
        yield Spend(0.02)
        if head[:1] != b"\xe9":
            for _ in range(2):
                self.send(b"invalid header: 0x%08x\r\n" % int.from_bytes(head, "little"))
                yield Spend(0.2)
            while True:
                yield Take()
        self.restart(application.run(self, bytes(self.flash[: 1 << 21]), self.console, self.faults))

    def hear_raw(self, value: int, sent: LineSettings) -> bool:
        """Auto-baud: the ROM measures the first frame."""
        if not self._measuring or not self._listening:
            return False
        if value != 0xC0 or not self.follows(sent.baud):
            self.settings = LineSettings(max(300, sent.baud // 3))
            self._measuring = False
            self.violation(f"auto-baud on {value:02X}")
            return False
        self._measuring = False
        self.settings = LineSettings(sent.baud)
        divider = self.kind.crystal_mhz * 16_000_000 // sent.baud
        self._registers[0x60000014] = divider >> 4 | (divider & 15) << 20
        return True

    def _loader(self) -> Program:
        self.settings = self.rom_line
        self._registers = {0x40001000: self.kind.rom_word, **self.kind.mac, **self.fuse_words}
        if self.faults.encrypted and self.kind.chip_id == 0:
            self._registers[0x3FF5A000] = 1 << 20
        lowest = min(self.kind.mac, default=0)
        if lowest:
            self._registers[lowest] += self.copy << (24 if self.kind.first else 0)
        self._attached = self.kind.first
        self._sized, self._write, self._reboot = False, None, False
        yield Spend(0.03)
        if self.kind.first:
            self.send(b"\r\n ets Jan  8 2013,rst cause:2, boot mode:(1,6)\r\n")
        else:
            self.send(b"rst:0x1 (POWERON_RESET),boot:0x3 (DOWNLOAD_BOOT(UART0))\r\nwaiting for download\r\n")
        self._measuring = True
        begun = False
        while not self._reboot:
            values = yield from self.several(1 << 20, stops=_FRAME_ENDS)
            if begun and len(values) > 1 and DAMAGED not in values:
                yield from self._request(self._unescaped(bytes(values[:-1])))
            begun = True
        self.restart(self._loader() if self.stays else self._application())

    def _unescaped(self, frame: bytes) -> bytes:
        for escaped in frame.split(b"\xdb")[1:]:
            if escaped[:1] not in (b"\xdc", b"\xdd"):
                self.violation(f"DB followed by {escaped[:1].hex().upper() or 'C0'}")
        return frame.replace(b"\xdb\xdc", b"\xc0").replace(b"\xdb\xdd", b"\xdb")

    # --- requests

    def _answer(self, command: int, value: int = 0, data: bytes = b"", error: int = 0) -> None:
        status = bytes([1 if error else 0, error]) + (b"" if self.kind.first else b"\x00\x00")
        body = data + status
        frame = bytes([1, command]) + len(body).to_bytes(2, "little") + value.to_bytes(4, "little") + body
        self.send(b"\xc0" + frame.replace(b"\xdb", b"\xdb\xdd").replace(b"\xc0", b"\xdb\xdc") + b"\xc0")

    def _request(self, frame: bytes) -> Steps:
        if len(frame) < 8 or frame[0] != 0 or len(frame) - 8 != int.from_bytes(frame[2:4], "little"):
            return
        command, body = frame[1], frame[8:]
        summed = int.from_bytes(frame[4:8], "little")
        words = [int.from_bytes(body[at : at + 4], "little") for at in range(0, len(body) - 3, 4)]
        lengths = {0x04: 4, 0x08: 36, 0x09: 16, 0x0A: 4, 0x12: 4, 0x13: 16}
        if not self.kind.first:
            lengths |= {0x0D: 8, 0x0F: 8, 0x0B: 24}
        sixth = self.kind.chip_id not in (None, 0)
        lengths |= dict.fromkeys((0x02, 0x10), 20 if sixth else 16)
        if (
            self.faults.locked
            and self.kind.chip_id
            and command not in (0x08, 0x14, 0x02, 0x03, 0x04, 0x10, 0x11, 0x12, 0x0F)
        ):
            self._answer(command, error=5)  # secure download mode
        elif command in lengths and len(body) != lengths[command]:
            self.violation(f"command {command:02X} with {len(body)} bytes")
            self._answer(command, error=5)
        elif command == 0x08:
            if body == b"\x07\x07\x12\x20" + b"\x55" * 32:
                for _ in range(8):
                    self._answer(8, 0x20120707)
        elif command == 0x09:
            self._store(words[0], words[1])
            self._answer(command)
        elif command == 0x0A:
            self._answer(command, self._registers.get(words[0], 0))
        elif command in (0x02, 0x10):
            yield from self._flash_begin(command, words)
        elif command in (0x03, 0x11):
            yield from self._block(command, words, body[16:], summed)
        elif command in (0x04, 0x12):
            self._answer(command)
            self._reboot = words[0] == 0
        elif self.kind.first:
            self._answer(command, error=5)
        elif command == 0x0D:
            self._attached = True
            self._answer(command)
        elif command == 0x0B:
            self._sized = words[1] >= self.kind.flash_bytes
            self._answer(command)
        elif command == 0x0F:
            self._answer(command)
            yield Spend(self.settings.seconds(16))
            # the divider of the UART has 20 bits
            slowest = self.kind.crystal_mhz * 1_000_000 >> 20
            made = max(slowest, words[0] * self.kind.crystal_mhz // 40)
            self.settings = LineSettings(made if self.follows(made) else self.faults.chip_limit or slowest)
        elif command == 0x13:
            yield from self._md5(words)
        elif command == 0x14 and self.kind.chip_id:
            locked = 4 if self.faults.locked else 0
            self._answer(
                command,
                0,
                locked.to_bytes(4, "little")
                + bytes([self.faults.encrypted])
                + bytes(7)
                + self.kind.chip_id.to_bytes(4, "little")
                + bytes(4),
            )
        else:
            self._answer(command, error=5)

    def _store(self, address: int, value: int) -> None:
        """A register write; the start bit of the SPI controller's command register runs its command at once."""
        base, user, user1, user2, data, length_at = self.kind.spi
        self._registers[address] = value
        if address != base or not value & 1 << 18:
            return
        self._registers[base] = 0
        command = self._registers.get(base + user2, 0) & 0xFF
        flags = self._registers.get(base + user, 0)
        bits = self._registers.get(base + length_at, 0) if length_at else self._registers.get(base + user1, 0) >> 8
        size = ((bits & 0x1FF) + 1) // 8
        if not self._attached or not flags & 1 << 31 or not flags & 1 << 28:
            self.violation("an SPI command that was not set up")
            return
        content = b""
        if command == 0x9F:
            content = (self.jedec_id if self.tells_size else _SIZELESS).to_bytes(3, "little")
        elif command == 0x5A and flags & 3 << 29 == 3 << 29 and self._registers.get(base + user1, 0) & 0x3F == 7:
            place = self._registers.get(base + 4, 0)
            place = place & 0xFFFFFF if user == 0x18 else place >> 8
            content = (self.sfdp[place : place + size]).ljust(size, b"\xff")
        elif command == 0x03 and flags & 1 << 30 and self._registers.get(base + user1, 0) >> 26 == 23:
            # SPI_ADDR holds it in bits 31:8, SPI_MEM_ADDR of the ESP32-S2 and later in bits 23:0
            place = self._registers.get(base + 4, 0)
            place = place & 0xFFFFFF if user == 0x18 else place >> 8
            content = bytes(self.flash[place : place + size])
        else:
            self.violation(f"SPI command {command:02X}")
        content = content.ljust(64, b"\x00")
        for at in range(0, 64, 4):
            self._registers[base + data + at] = int.from_bytes(content[at : at + 4], "little")

    # --- flash

    def _flash_begin(self, command: int, words: list[int]) -> Steps:
        size, number, block, offset = words[:4]
        if not self._attached or (command == 0x10 and self.kind.first):
            self.violation("a flash command before the flash was attached")
            self._answer(command, error=6)
            return
        if block > 0x400 or offset % _SECTOR or offset + size > self.kind.flash_bytes:
            self.violation(f"begin of {size} bytes in blocks of {block} at {offset:X}")
            self._answer(command, error=6)
            return
        sectors = -(-size // _SECTOR)
        if self.kind.first:  # the ROM counts the sectors up to the next 64 KiB block twice
            sectors += min(sectors, 16 - offset // _SECTOR % 16)
        for place in range(offset, offset + sectors * _SECTOR, _SECTOR):
            yield Spend(_ERASE_S * self.faults.slow_erase)
            at = place % self.kind.flash_bytes  # it ignores address bits that it does not have
            self.flash[at : at + _SECTOR] = b"\xff" * _SECTOR
        deflated = command == 0x10
        self._write = _Write(deflated, size, number, block, offset, unpack=zlib.decompressobj() if deflated else None)
        self._answer(command)

    def _block(self, command: int, words: list[int], data: bytes, summed: int) -> Steps:
        write = self._write
        if write is None or write.deflated != (command == 0x11):
            self.violation("data without a begin")
            self._answer(command, error=6)
            return
        if len(data) != words[0] or reduce(xor, data, 0xEF) != summed & 0xFF:
            self._answer(command, error=7)
            return
        if words[1] != write.next or write.next >= write.number or (not write.deflated and words[0] != write.block):
            self.violation(f"block {words[1]} of {words[0]} bytes where block {write.next} was due")
            self._answer(command, error=6)
            return
        write.next += 1
        if write.deflated:
            try:
                data = write.unpack.decompress(data)  # type: ignore[attr-defined]
            except zlib.error:
                self._answer(command, error=0x0B)
                return
        yield Spend(len(data) / 256 * _PAGE_S)
        self.put(write.offset + write.written, data)
        write.written += len(data)
        if write.deflated and write.written > write.size:
            self.violation(f"{write.written} bytes unpacked, {write.size} announced")
        self._answer(command)

    def _md5(self, words: list[int]) -> Steps:
        offset, size = words[0], words[1]
        if not (self._attached and self._sized) or offset + size > self.kind.flash_bytes:
            self.violation(f"MD5 of {size} bytes at {offset:X}")
            self._answer(0x13, error=6)
            return
        yield Spend(size * _MD5_S)
        digest = hashlib.md5(self.flash[offset : offset + size], usedforsecurity=False).hexdigest()
        self._answer(0x13, 0, digest.encode())


def _program(kind: EspKind, text: str, size: int, seed: int) -> Image:
    return samples.esp_image(text, size, seed, kind.boot, kind.chip_id)


def _board(chip: str, name: str = "") -> BenchBoard:
    texts = GAUGE if chip == "esp8266" else GATEWAY
    return board_of(KINDS[chip], SimulatedEsp, _program, name or chip, CrossPair(), texts, chip=chip)


BOARDS = (_board("esp32", "apiary-gateway"), _board("esp8266", "rain-gauge"), *map(_board, KINDS))
