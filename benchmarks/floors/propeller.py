"""Propellers: eleven characters for four bytes, and four for three; one answer, or the EEPROM's three."""

from __future__ import annotations

from greenstep.bench.boards import BOARDS
from greenstep.core.image import Image
from greenstep.core.plan.write_options import WriteOptions

from . import SIZE, Case, Floor

_FIRST = 16384


def cases() -> list[Case]:
    """All of an image is sent, blank or not."""

    def image(board: str, size: int) -> Image:
        return BOARDS[board].program("", size, 3)

    first = (_FIRST // 4 + 2) * 11 + 2
    eeprom = {"options": WriteOptions(settings={"into": "eeprom"})}
    return [
        Case("p8x32a", "p8x32a, 16 KiB", image("p8x32a", _FIRST), Floor(first, 1, 2 * 0.08), {}),
        Case("p8x32a-eeprom", "and EEPROM", image("p8x32a", _FIRST), Floor(first + 4, 3, 2 * 0.08 + 4.1), eeprom),
        Case(
            "p2x8c4m64p", "p2x8c4m64p", image("p2x8c4m64p", SIZE), Floor(22 + SIZE * 4 / 3 + SIZE // 72, 1, 0.0), {}
        ),
    ]
