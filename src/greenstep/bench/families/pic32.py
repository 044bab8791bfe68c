"""Simulated PIC32 with Microchip's bootloader, from AN1388. Boards: pic32mx795f512, pic32mz2048efh.

| what | the loader |
|---|---|
| stays | while its button is held, or the first word at the program's reset address (its beginning + `entry`) is blank |
| erase (2) | all that a program may use, and nothing else; no range |
| program (3) | Intel HEX records; what lies outside of the program's flash is left out without a word |
| CRC (4) | over exactly the range that is asked for, by virtual addresses |
| jump (5) | not answered |
| status | none: what is not answered was not done, or not known |
| remembered over a reset | nothing but the flash |

Stricter than silicon: a word (on an MZ four of them) that is not blank is never programmed with other bits, a record
with a wrong sum is not answered, and a CRC is told of virtual addresses only.
"""  # noqa: E501

from __future__ import annotations

from collections.abc import Generator

from greenstep.core.frozen import frozen
from greenstep.core.image import Image, Piece

from .. import application, samples
from ..boards import PUMP, BenchBoard, any_kind, board_of
from ..chip import Program, Spend, Take, Wish
from ..circuits import Circuit, DtrResetRtsBoot, RtsResetDtrBoot
from ..crc16 import crc16
from ..faults import Faults
from ..rom import SimulatedRom

Steps = Generator[Wish, int, None]
_BASE, _LOADER, _WORD_S, _PAGE_S, _CRC_BYTE_S = 0x1D000000, 0x6000, 15e-6, 0.02, 0.3e-6


@frozen
class Pic32Kind:
    """Sizes in bytes."""

    title: str
    flash_bytes: int
    page: int


KINDS = {
    "pic32mx795f512": Pic32Kind("PIC32MX795F512, AN1388", 512 * 1024, 4096),
    "pic32mz2048efh": Pic32Kind("PIC32MZ2048EFH, AN1388", 2048 * 1024, 16384),
}


class SimulatedPic32(SimulatedRom):
    """One board: the loader stays while its button is held, or while there is no program."""

    base = _BASE

    def __init__(self, kind: Pic32Kind, faults: Faults | None = None) -> None:
        super().__init__(kind.flash_bytes, faults)
        self.kind = kind
        self.flash[:_LOADER] = b"\xa5" * _LOADER
        self._upper = 0
        self.loader_bytes = _LOADER
        self.entry = 0

    def boot(self, boot_selected: bool) -> Program:
        at = self.loader_bytes + self.entry
        blank = self.flash[at : at + 4] == b"\xff" * 4
        return self._loader() if (boot_selected or blank) and not self.faults.no_boot else self.application()

    def _loader(self) -> Program:
        self.running = self._leaves = False
        self.settings = self.console
        self._upper = 0
        self.keeps_early = True  # the UART has a FIFO
        yield Spend(0.01)
        body: bytearray | None = None
        kept = False
        while not self._leaves:
            value = yield Take()
            if kept and body is not None:
                body.append(max(0, value))
                kept = False
            elif value == 0x01:
                body = bytearray()
            elif value == 0x10:
                kept = True
            elif value == 0x04:
                if body is not None and len(body) > 2 and crc16(bytes(body[:-2])) == body[-2] | body[-1] << 8:
                    yield from self._command(body[0], bytes(body[1:-2]))
                body = None
            elif body is not None and len(body) < 1000:
                body.append(max(0, value))
        self.keeps_early = False
        self.restart(self.application())

    def _answer(self, data: bytes) -> None:
        body = data + crc16(data).to_bytes(2, "little")
        stuffed = b"".join(b"\x10" + bytes([b]) if b in (0x01, 0x04, 0x10) else bytes([b]) for b in body)
        self.send(b"\x01" + stuffed + b"\x04")

    def _command(self, command: int, data: bytes) -> Steps:
        if command == 1 and not data:
            self._answer(b"\x01\x01\x05")
        elif command == 2 and not data:
            pages = (self.kind.flash_bytes - self.loader_bytes) // self.kind.page
            yield Spend(pages * _PAGE_S * self.faults.slow_erase)
            self.flash[self.loader_bytes :] = b"\xff" * (self.kind.flash_bytes - self.loader_bytes)
            self._answer(b"\x02")
        elif command == 3:
            if (yield from self._records(data)):
                self._answer(b"\x03")
        elif command == 4 and len(data) == 8:
            address, size = int.from_bytes(data[:4], "little"), int.from_bytes(data[4:], "little")
            at = address - (_BASE | 0x80000000)
            if not 0 <= at <= self.kind.flash_bytes - size:
                self.violation(f"a CRC of {size} bytes at {address:08X}: it stands still")
                yield from application.idle(1e9)
            yield Spend(size * _CRC_BYTE_S)
            self._answer(b"\x04" + crc16(bytes(self.flash[at : at + size])).to_bytes(2, "little"))
        elif command == 5 and not data:
            self._leaves = True
        else:
            self.violation(f"command {command:02X} with {len(data)} bytes")

    def _records(self, data: bytes) -> Generator[Wish, int, bool]:
        while data:
            size = data[0]
            record, data = data[: size + 5], data[size + 5 :]
            if len(record) < size + 5 or sum(record) & 0xFF:
                self.violation("a record with a wrong sum")
                return False
            if record[3] == 4:
                self._upper = int.from_bytes(record[4:6], "big") << 16
            elif record[3] == 0:
                address = (self._upper | int.from_bytes(record[1:3], "big")) & 0x1FFFFFFF
                if not _BASE + self.loader_bytes <= address <= _BASE + self.kind.flash_bytes - size:
                    self.violation(f"a record at {address:08X}: left out")
                    continue
                yield Spend(-(-size // 4) * _WORD_S)
                self.put(address, record[4:-1])
        return True


def _program_image(text: str, size: int, seed: int) -> Image:
    plain = samples.plain_image(text, size, seed)
    return Image("feeder-pump.hex", (Piece(_BASE + _LOADER, plain.pieces[0].data),), None, "Intel HEX")


def _board(name: str, circuit: Circuit) -> BenchBoard:
    return board_of(KINDS[name], SimulatedPic32, any_kind(_program_image), name, circuit, PUMP)


BOARDS = (_board("pic32mx795f512", DtrResetRtsBoot("low")), _board("pic32mz2048efh", RtsResetDtrBoot("low")))
