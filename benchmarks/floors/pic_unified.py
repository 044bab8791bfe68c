"""DS40001779: rows erased one by one, written one by one, and read back in readings of 64 bytes."""

from __future__ import annotations

from dataclasses import replace

from greenstep.bench.boards import BOARDS
from greenstep.bench.families import pic_unified
from greenstep.core.image import Piece

from . import SIZE, Case, Floor, full_image


def floor(kind: pic_unified.UnifiedKind, size: int) -> Floor:
    """Every answer begins with the ten characters of its request."""
    rows = -(-size // kind.row)
    characters = rows * 21 + rows * 21 + rows * 20 + 2 * size
    return Floor(characters, 3 * rows, rows * 0.004)


def cases() -> list[Case]:
    return [_case(name) for name in pic_unified.KINDS]


def _case(name: str) -> Case:
    """Half of a PIC16's flash, which holds no more than the usual size; its words have 14 bits."""
    kind = pic_unified.KINDS[name]
    size = SIZE // 2 if kind.in_words else SIZE
    image = full_image(BOARDS[name].program("", size + 64, 3), size)
    if kind.in_words:
        data = bytes(byte & 0x3F if at % 2 else byte for at, byte in enumerate(image.pieces[0].data))
        image = replace(image, pieces=(Piece(image.lowest, data),))
    return Case(name, f"{name[:5]}, 16 KiB" if kind.in_words else name, image, floor(kind, size), {})
