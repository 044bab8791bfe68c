"""Simulated Tiva C with the serial flash loader in its ROM, from the data sheets. Boards: tm4c123, tm4c1294.

| what | the loader |
|---|---|
| enters | if the first two words of the flash are blank, or by the pin that BOOTCFG names |
| download (21h) | erases every page of the range before it acknowledges; `only_start`: takes no other address than the start of the flash |
| send data (24h) | programs what was announced, and moves on |
| reset (25h) | acknowledged; no answer shows that a program runs |
| status (23h) | 40h well, 41h unknown, 42h invalid, 43h address, 44h flash; a read, a sum or a chip number is not known to it |
| remembered over a reset | nothing but the flash |

Stricter than silicon: what is announced must begin at a page, end at one or leave less than a page blank, and be a
multiple of 4.
"""  # noqa: E501

from __future__ import annotations

from greenstep.core.image import Image

from ..boards import FAN, BenchBoard, board_of
from ..circuits import Circuit, DtrResetRtsBoot, RtsResetDtrBoot
from ..ti_loader import BAD_ADDRESS, INVALID, OK, UNKNOWN, Steps, TiKind, TiLoader, cortex_m_image, numbers

KINDS = {
    "tm4c123": TiKind(
        "TM4C123GH6PM, 256 KiB", 256 * 1024, 1024, 0.008, word_s=30e-6, ram_bytes=32 * 1024, checks_cells=True
    ),
    "tm4c1294": TiKind(
        "TM4C1294NCPDT, 1 MiB", 1024 * 1024, 16384, 0.008, word_s=30e-6, ram_bytes=256 * 1024, checks_cells=True
    ),
}


class SimulatedTiva(TiLoader):
    """One chip, whose BOOTCFG names a pin."""

    only_start = False

    def enters(self, boot_selected: bool) -> bool:
        return boot_selected or b"\xff\xff\xff\xff" in (bytes(self.flash[:4]), bytes(self.flash[4:8]))

    def command(self, number: int, rest: bytes) -> Steps:
        if number == 0x20 and not rest:
            self.status = OK
        elif number == 0x21 and len(rest) == 8:
            yield from self._download(*numbers(rest))
        elif number == 0x23 and not rest:
            yield from self.answer(bytes([self.status]))
        elif number == 0x24:
            yield from self.take_data(rest)
        elif number == 0x25 and not rest:
            self._leaves = True
        elif number in (0x20, 0x21, 0x22, 0x23, 0x25):
            self.violation(f"command {number:02X} with {len(rest)} bytes")
            self.status = INVALID
        else:
            self.status = UNKNOWN

    def _download(self, address: int, size: int) -> Steps:
        elsewhere = self.only_start and address
        if not self.inside(address, size) or not size or size % 4 or address % self.kind.unit or elsewhere:
            self.status, self.left = BAD_ADDRESS, 0
            return
        yield from self.wipe(address, size)
        self.status, self.at, self.left = OK, address, size


def _program(kind: TiKind, text: str, size: int, seed: int) -> Image:
    return cortex_m_image(text, size, seed, 0, kind.ram_bytes)


def _board(name: str, circuit: Circuit) -> BenchBoard:
    return board_of(KINDS[name], SimulatedTiva, _program, name, circuit, FAN)


BOARDS = (_board("tm4c123", DtrResetRtsBoot("low")), _board("tm4c1294", RtsResetDtrBoot("low")))
