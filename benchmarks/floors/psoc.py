"""AN60317: packets of 64 bytes, seven of them around the data; a row is programmed and its sum asked for."""

from __future__ import annotations

from greenstep.bench.boards import BOARDS
from greenstep.bench.families import psoc

from . import SIZE, Case, Floor


def floor(kind: psoc.PsocKind, rows: int) -> Floor:
    packets = 1 + -(-(kind.row - 54) // 57)
    characters = rows * (kind.row + packets * 14 + 3 + 10 + 8) + 15
    return Floor(characters, rows * (packets + 1) + 1, rows * 0.02 + 0.01)


def cases() -> list[Case]:
    found = []
    for name, kind in psoc.KINDS.items():
        size = SIZE // 2
        image = BOARDS[name].program("", size, 3)
        found.append(Case(name, f"{name}, 16 KiB", image, floor(kind, -(-size // kind.row) + 1), {}))
    return found
