"""What is in a PIC18's hex file besides code, and its jumps: PIC18 data sheets, "Program memory" and "GOTO".

Configuration words stand at 300000, user ids at 200000 and the EEPROM at F00000 of a hex file. A bootloader writes
code."""

from __future__ import annotations

from dataclasses import replace

from ..quantities import count, show_span
from .edit import HIGHEST
from .model import Image, Piece

_USER_IDS, _CONFIGURATION, _EEPROM = 0x200000, 0x300000, 0xF00000
_OTHER = ((_USER_IDS, "user ids"), (_CONFIGURATION, "configuration words"), (_EEPROM, "EEPROM"))


def code_only(image: Image, flash_end: int, config_bytes: int = 0) -> tuple[Image, tuple[str, ...]]:
    """The image without what is no code, and what was left out, in words. What lies behind the flash and in none of
    these places stays, to be refused by whoever knows the part. `config_bytes`: so many at the end of the flash are
    configuration words, as on the J parts."""
    notes, pieces = [], []
    config = flash_end - config_bytes
    for piece in _apart(image, config, flash_end) if config_bytes else image.pieces:
        place = next((name for start, name in reversed(_OTHER) if piece.address >= start), "")
        if config <= piece.address < flash_end:
            place = "configuration words"
        elif piece.address < flash_end:
            place = ""
        if not place:
            pieces.append(piece)
        else:
            span = show_span(piece.address, len(piece.data))
            notes.append(
                f"{place} {span} left out, {count(len(piece.data), 'byte')}: this bootloader writes code only"
            )
    return replace(image, pieces=tuple(pieces)), tuple(notes)


def _apart(image: Image, start: int, end: int) -> list[Piece]:
    """The pieces, with what lies from `start` to before `end` cut off from the rest."""
    return [
        Piece(low, piece.data[low - piece.address : high - piece.address])
        for piece in image.pieces
        for first, last in ((0, start), (start, end), (end, HIGHEST))
        if (low := max(first, piece.address)) < (high := min(last, piece.end))
    ]


def in_words(image: Image) -> str:
    """The span of an image as the program counter counts it, in words of 16 bits."""
    return f"in words {show_span(image.lowest // 2, (image.end - image.lowest + 1) // 2)}"


def goto(address: int) -> bytes:
    """The four bytes of GOTO to a byte address: EF kk, F0 kk, low byte first."""
    k = address // 2
    return (0xEF00 | k & 0xFF).to_bytes(2, "little") + (0xF000 | k >> 8 & 0xFFF).to_bytes(2, "little")


def goto_target(data: bytes) -> int | None:
    """The byte address that four bytes jump to; None where they are no GOTO."""
    if len(data) < 4 or data[1] != 0xEF or data[3] & 0xF0 != 0xF0:
        return None
    return 2 * (data[0] | (data[2] | (data[3] & 0x0F) << 8) << 8)
