"""Doorstep: frames as large as the loader takes; the flash is busy meanwhile, if it hears then; one digest of all."""

from __future__ import annotations

from greenstep.bench.boards import BOARDS
from greenstep.bench.families import doorstep

from . import SIZE, Case, Floor


def floor(kind: doorstep.DoorstepKind, size: int) -> Floor:
    frames = -(-size // kind.data_bytes)
    around = 11 + -(-(kind.data_bytes + 10) // 254) + 1
    hears = bool(kind.abilities & 4)
    # only what is not blank is erased apart: last week's program and the seal
    apart_units = -(-6000 // kind.erase_unit) + 1
    units, writes = -(-size // kind.erase_unit), -(-size // kind.write_unit)
    erase_s, program_s = units * kind.erase_s, writes * kind.program_s
    apart = 0 if kind.erases_itself else 16 + 9
    busy_s = size * kind.sum_s
    busy_s += (0 if hears else program_s) + (
        0 if hears and kind.erases_itself else erase_s if kind.erases_itself else apart_units * kind.erase_s
    )
    turns = 2 + (0 if kind.frames > 1 else frames) + (0 if kind.erases_itself else 1)
    return Floor(size + frames * around + 9 + apart + 16 + 13, turns, busy_s)


def cases() -> list[Case]:
    found = []
    for name, kind in doorstep.KINDS.items():
        size = min(SIZE, kind.seal - kind.begin - 1024)
        board = f"doorstep-{name}"
        image = BOARDS[board].program("", size, 3)
        found.append(Case(board, f"{board}, {size >> 10} KiB", image, floor(kind, size), {}))
    return found
