"""NXP's MCU bootloader: one command to write and one to read, frames as large as the chip takes."""

from __future__ import annotations

from greenstep.bench.boards import BOARDS
from greenstep.bench.families import nxp_mcu
from greenstep.core.image import Image, Piece

from . import SIZE, Case, Floor, full_image


def floor(kind: nxp_mcu.McuKind, size: int) -> Floor:
    """Each frame acknowledged by two characters; erasing in runs of 16 sectors."""
    frames, sectors = -(-size // kind.packet), -(-size // kind.sector)
    command, answer = 22 + 2, 18 + 2
    erases = -(-sectors // 16)
    characters = (erases + 2) * (command + answer) + 2 * answer + 2 * (frames * 8 + size)
    turns = erases + 2 + 2 * frames
    return Floor(characters, turns, sectors * kind.erase_s + size / kind.align * kind.program_s, baud=57600)


def cases() -> list[Case]:
    found = []
    for name, kind in nxp_mcu.KINDS.items():
        data = full_image(BOARDS[name].program("", SIZE + 64, 3), SIZE).pieces[0].data
        data = data[:0x400] + nxp_mcu.FIELD + data[0x410:] if kind.field else data
        image = Image("fan.bin", (Piece(0, data),))
        found.append(Case(name, name, image, floor(kind, SIZE), {}))
    return found
