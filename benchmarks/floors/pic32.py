"""AN1388: all erased at once, frames of four records of 128 bytes, one CRC."""

from __future__ import annotations

from greenstep.bench.boards import BOARDS
from greenstep.bench.families import pic32

from . import SIZE, Case, Floor, full_image


def floor(kind: pic32.Pic32Kind, data: bytes) -> Floor:
    """Six characters around a frame, seven of the record with the upper address, five around each record, three values
    in 256 stuffed."""
    size = len(data)
    frames, records = -(-size // 512), -(-size // 128)
    stuffed = sum(data.count(value) for value in (0x01, 0x04, 0x10))
    characters = 12 + frames * (5 + 7 + 6) + records * 5 + size + stuffed + 24
    busy_s = (kind.flash_bytes - 0x6000) // kind.page * 0.02 + size / 4 * 15e-6 + size * 0.3e-6
    return Floor(characters, frames + 2, busy_s)


def cases() -> list[Case]:
    found = []
    for name, kind in pic32.KINDS.items():
        image = full_image(BOARDS[name].program("", SIZE + 64, 3), SIZE)
        found.append(Case(name, name, image, floor(kind, image.pieces[0].data), {}))
    return found
