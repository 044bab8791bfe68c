"""Nuvoton's ISP: packets of 64 characters each way, 56 bytes in each but the first; pages erased before."""

from __future__ import annotations

from greenstep.bench.boards import BOARDS
from greenstep.bench.families import nuvoton

from . import SIZE, Case, Floor, full_image


def floor(kind: nuvoton.NuvotonKind, size: int) -> Floor:
    packets = 1 + -(-(size - 48) // 56)
    return Floor(packets * 128, packets, -(-size // kind.page) * 0.02 + size / 4 * 50e-6)


def cases() -> list[Case]:
    found = []
    for name, kind in nuvoton.KINDS.items():
        image = full_image(BOARDS[name].program("", SIZE + 64, 3), SIZE)
        found.append(Case(name, name, image, floor(kind, SIZE), {}))
    return found
