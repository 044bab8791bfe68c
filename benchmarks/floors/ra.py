"""R01AN5372: one range to write, packets of 1024 bytes, one CRC."""

from __future__ import annotations

from greenstep.bench.boards import BOARDS
from greenstep.bench.families import ra
from greenstep.core.plan.write_options import WriteOptions

from . import SIZE, Case, Floor, full_image


def floor(kind: ra.RaKind, size: int) -> Floor:
    """A command of 14 characters and its answer of 7; each packet of data six around it, and answered; erasing in runs
    of 16 blocks."""
    packets = -(-size // 1024)
    block = kind.blocks[0][1]
    blocks = -(-size // block)
    erases = -(-blocks // 16)
    characters = erases * 21 + 21 + packets * 13 + size + 24
    busy_s = blocks * kind.erase_s + size / kind.unit * kind.unit_s + size * 0.5e-6
    return Floor(characters, erases + 1 + packets + 1, busy_s)


def cases() -> list[Case]:
    found = []
    for name, kind in ra.KINDS.items():
        data = full_image(BOARDS[name].program("", SIZE + 64, 3), SIZE)
        piece = data.pieces[0]
        blank = piece.data[:0x400] + b"\xff" * 0x3C + piece.data[0x43C:]
        image = type(data)(data.name, (type(piece)(0, blank),))
        options = {"options": WriteOptions(settings={"id": kind.id_code.hex()})} if kind.id_code else {}
        found.append(Case(name, name, image, floor(kind, SIZE), options))
    return found
