"""SAM-BA: files of 128 bytes a block over a UART, each acknowledged; a job for each 4 or 8 KiB, called and asked for."""

from __future__ import annotations

from greenstep.bench import sam_bus
from greenstep.bench.boards import BOARDS
from greenstep.bench.families import sam

from . import SIZE, Case, Floor, full_image

_ROUTINE = 1280


def floor(kind: sam_bus.SamKind, size: int) -> Floor:
    """The routine goes there and is read back; then jobs: two that prepare, those that write, one that proves."""
    each = max(4096, kind.unit)
    runs = -(-size // each)
    busy_s = size / kind.unit * sam_bus.ERASE_S[kind.controller] + size / kind.page * sam_bus.PAGE_S[kind.controller]
    busy_s += 2 * size * 10 / sam.HZ  # the CRC of what came, and of all in the end
    call = 10 + 13 + 4 + (1 if kind.returns else 0)
    if kind.usb:
        characters = runs * (16 + 256 + each + call) + 3 * (16 + 128 + call) + 2 * (16 + _ROUTINE)
        return Floor(characters, 2 * runs + 6 + 1, busy_s)
    block = 133 + 1
    jobs = runs + 3
    blocks = runs * (2 + each // 128) + 3 + 2 * _ROUTINE // 128
    characters = blocks * block + jobs * (16 + 1 + 2 + call) + 2 * 19
    return Floor(characters, blocks + jobs * 4 + 5, busy_s)


def cases() -> list[Case]:
    found = []
    for name, kind in sam.KINDS.items():
        image = full_image(BOARDS[name].program("", SIZE + 64, 3), SIZE)
        found.append(Case(name, name, image, floor(kind, SIZE), {}))
    return found
