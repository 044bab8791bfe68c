"""MSP430: 240 bytes a write; of the older ones each is read back at 9600 baud, the newer ones tell a CRC."""

from __future__ import annotations

from greenstep.bench.boards import BOARDS
from greenstep.bench.families import msp430
from greenstep.core.image import Image, Piece

from . import Case, Floor

SIZE = 8192


def older(kind: msp430.Msp430Kind, size: int) -> Floor:
    """Each frame is preceded by a character that is answered by one."""
    blocks = -(-size // 240)
    characters = blocks * (2 + 10 + 1) + size + blocks * (2 + 10 + 6) + size + (2 + 11) + (2 + 43)
    return Floor(characters, 4 * blocks + 4, size / 2 * kind.word_s + kind.erase_s, 11, 9600)


def newer(kind: msp430.Msp430Kind, size: int) -> Floor:
    blocks, runs = -(-size // 240), -(-size // 4096)
    characters = blocks * (9 + 8) + size + runs * (11 + 9) + 14 + 46
    return Floor(characters, blocks + runs + 2, size / 2 * kind.word_s + kind.erase_s + size * 2e-6, 11)


def _image(name: str) -> Image:
    """Code alone: the vectors are a frame of their own."""
    piece = BOARDS[name].program("", SIZE + 64, 3).pieces[0]
    data = bytes(byte if byte not in (0x00, 0xFF) else 0x5A for byte in piece.data[:SIZE])
    return Image("gauge.txt", (Piece(piece.address, data),))


def cases() -> list[Case]:
    return [
        Case(name, f"{name}, 8 KiB", _image(name), (older if name == "msp430g2553" else newer)(kind, SIZE), {})
        for name, kind in msp430.KINDS.items()
    ]
