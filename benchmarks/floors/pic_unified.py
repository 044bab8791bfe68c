"""DS40001779: rows erased one by one, written one by one, and read back in readings of 64 bytes."""

from __future__ import annotations

from greenstep.bench.boards import BOARDS
from greenstep.bench.families import pic_unified

from . import SIZE, Case, Floor, full_image


def floor(kind: pic_unified.UnifiedKind, size: int) -> Floor:
    """Every answer begins with the ten characters of its request."""
    rows = -(-size // kind.row)
    characters = rows * 21 + rows * 21 + rows * 20 + 2 * size
    return Floor(characters, 3 * rows, rows * 0.004)


def cases() -> list[Case]:
    name = "pic18f26k40"
    image = full_image(BOARDS[name].program("", SIZE + 64, 3), SIZE)
    return [Case(name, name, image, floor(pic_unified.KINDS[name], SIZE), {})]
