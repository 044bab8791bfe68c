"""SLAU887: data as large as the loader's buffer takes, one CRC."""

from __future__ import annotations

from greenstep.bench.boards import BOARDS
from greenstep.bench.families import mspm0
from greenstep.core.plan.write_options import WriteOptions

from . import SIZE, Case, Floor, full_image


def floor(kind: mspm0.Mspm0Kind, size: int) -> Floor:
    """A frame has twelve characters around its data and is answered by ten; erasing in runs of 32 sectors. Data ends
    where a sector does, because after any doubt that is erased."""
    each = min(1024, (kind.buffer - 16) & ~7)
    frames = -(-size // 1024) * -(-1024 // each)
    erases = -(-size // (32 * 1024))
    characters = erases * 26 + frames * 22 + size + 29
    return Floor(characters, erases + frames + 1, size / 1024 * 0.004 + size / 8 * 50e-6 + size * 0.5e-6)


def cases() -> list[Case]:
    found = []
    for name, kind in mspm0.KINDS.items():
        image = full_image(BOARDS[name].program("", SIZE + 64, 3), SIZE)
        options = {"options": WriteOptions(settings={"password": kind.password.hex()})}
        found.append(Case(name, name, image, floor(kind, SIZE), options))
    return found
