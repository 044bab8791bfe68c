"""AN945: pages erased one by one, records of 128 bytes, one CRC over all."""

from __future__ import annotations

from greenstep.bench.boards import BOARDS
from greenstep.bench.families import efm8

from . import SIZE, Case, Floor, full_image


def floor(kind: efm8.Efm8Kind, size: int) -> Floor:
    """Each record has six characters around its data, and one that answers it."""
    free = kind.flash_bytes - kind.loader_bytes
    pages, records = free // 512, -(-size // 128)
    characters = pages * 7 + records * 7 + size + 5 * 11
    busy_s = pages * 0.006 + size * 20e-6 + (4 * free + size) * 10e-6  # blank before; all, without and with byte 0
    return Floor(characters, pages + records + 5, busy_s)


def cases() -> list[Case]:
    found = []
    for name, size in (("efm8bb1", 7168), ("efm8ub2", SIZE)):
        image = full_image(BOARDS[name].program("", size + 64, 3), size)
        found.append(Case(name, f"{name}, {size >> 10} KiB", image, floor(efm8.KINDS[name], size), {}))
    return found
