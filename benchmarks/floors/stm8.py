"""UM0560: the routines into RAM and back, sectors of 1 KiB erased, 128 bytes a write, 256 a read."""

from __future__ import annotations

from greenstep.bench.boards import BOARDS
from greenstep.bench.families import stm8

from . import Case, Floor, full_image

SIZE = 16384


def floor(size: int) -> Floor:
    def writes(total: int) -> tuple[int, int]:
        number = -(-total // 128)
        return total + number * (2 + 1 + 5 + 1 + 2 + 1), 3 * number

    def reads(total: int, each: int) -> tuple[int, int]:
        number = -(-total // each)
        return total + number * (2 + 1 + 5 + 1 + 2 + 1), 3 * number

    routines = len(stm8.ROUTINES)
    parts = (writes(routines), reads(routines, 128), writes(size), reads(size, 256))
    erases = -(-size // (41 * 1024))
    characters = sum(part[0] for part in parts) + erases * 5 + size // 1024
    turns = sum(part[1] for part in parts) + 2 * erases
    return Floor(characters, turns, size / 1024 * 0.024 + size / 128 * 0.003, 11)


def cases() -> list[Case]:
    board = BOARDS["stm8s105"]
    image = full_image(board.program("", SIZE + 64, 3), SIZE)
    return [Case("stm8s105", "stm8s105, 16 KiB", image, floor(SIZE), {})]
