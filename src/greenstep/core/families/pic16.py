"""PIC16 of the enhanced mid-range core (PIC16F1xxx): words of 14 bits, reset at word 0000, interrupts at 0004 (data
sheets, "Memory Organization", "Instruction Set Summary").

A hex file has two bytes for each word, low byte first, so its addresses are twice those of the chip. It holds more
than code: user ids from word 8000 on, configuration words from 8007, the EEPROM's bytes from F000, one to a word.

A blank word is 3FFF in the chip and in compilers' files. Here it is FFFF, as a blank memory of bytes is; every other
word is as the chip has it. So nothing is lost either way, and blank rows are seen as blank.
"""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise

from ..chips.part import Part
from ..image import Image, Piece
from ..quantities import count, show_address, show_bytes, show_span
from .family import Family, Origin, Verdict

_BLANK = 0x3FFF
_OTHER = (
    (0x10000, 0x1000A, "user ids"),
    (0x1000A, 0x10020, "configuration words"),
    (0x1E000, 0x20000, "EEPROM"),
)
"""From, to before (addresses of a hex file), and what is there."""
_PAGE_WORDS, _MOVLP, _GOTO = 0x800, 0x3180, 0x2800


def code_of_words(image: Image) -> tuple[Image, tuple[str, ...]]:
    """The image reduced to code, blank words as FFFF; and what was left out, in words. Anything beyond
    the code stays, for the part's own check to refuse."""
    notes: list[str] = []
    pieces: list[Piece] = []
    for piece in image.pieces:
        for low, data in _between_borders(piece):
            place = next((name for start, end, name in _OTHER if start <= low < end), "")
            if place:
                size = len(data)
                notes.append(f"{place} {show_span(low, size)} left out, {count(size, 'byte')}: only code is written")
                continue
            pieces.append(Piece(low, blank_as_ff(data) if low % 2 == 0 else data))
    return replace(image, pieces=tuple(pieces)), tuple(notes)


def _between_borders(piece: Piece) -> list[tuple[int, bytes]]:
    """The parts of a piece in one place each."""
    borders = sorted({piece.address, piece.end, *(at for row in _OTHER for at in row[:2])})
    inside = [at for at in borders if piece.address <= at <= piece.end]
    return [(low, piece.data[low - piece.address : high - piece.address]) for low, high in pairwise(inside)]


def no_words(image: Image) -> tuple[str, str]:
    """Why an image does not hold whole words of 14 bits, and where that shows; two empty texts if it does."""
    for piece in image.pieces:
        for at in (piece.address, piece.end):
            if at % 2:
                return "it begins or ends within a word", f"at {show_address(at)}"
        for index, word in enumerate(_words(piece.data)):
            if _BLANK < word < 0xFFFF:
                shown = show_bytes(piece.data[2 * index : 2 * index + 2])
                return "it holds words of more than 14 bits", f"{shown} at {show_address(piece.address + 2 * index)}"
    return "", ""


def are_words_of_14_bits(code: bytes) -> bool | None:
    """Whether code as a chip shows it is a PIC16's; None if that cannot be told. Other chips' instructions of 16 bits
    use the two upper bits before long."""
    words = _words(code)
    if not any(words) or all(word in (_BLANK, 0xFFFF) for word in words):
        return None
    return all(word <= _BLANK for word in words)


def blank_as_ff(data: bytes) -> bytes:
    """Words as the chip has them, low byte first, with FFFF for the blank ones."""
    return b"".join(
        b"\xff\xff" if data[at : at + 2] == b"\xff\x3f" else data[at : at + 2] for at in range(0, len(data), 2)
    )


def as_in_chip(data: bytes) -> bytes:
    """The opposite: 3FFF for the blank words."""
    return b"".join(
        b"\xff\x3f" if data[at : at + 2] == b"\xff\xff" else data[at : at + 2] for at in range(0, len(data), 2)
    )


def _words(data: bytes) -> list[int]:
    return [int.from_bytes(data[at : at + 2], "little") for at in range(0, len(data) - 1, 2)]


def _target(words: list[int], at: int) -> int | None:
    """The word that MOVLP and GOTO at `at`, or GOTO alone, lead to. MOVLP sets bits 8 to 14 of the program counter,
    of which GOTO takes 11 to 14 (`PCLATH`)."""
    page = at & ~(_PAGE_WORDS - 1)
    if words and words[0] & 0xFF80 == _MOVLP:
        page, words = (words[0] & 0x78) << 8, words[1:]
    if not words or words[0] & 0xF800 != _GOTO:
        return None
    return page | words[0] & (_PAGE_WORDS - 1)


def _origin(piece: Piece, image: Image) -> Origin | None:
    words = _words(piece.data[:128])
    if piece.address % 2 or len(words) < 2 or words[0] & 0xFF80 != _MOVLP:
        return None
    target = _target(words, piece.address // 2)
    if target is None or not image.touches(2 * target, 2) or any(_BLANK < word < 0xFFFF for word in words):
        return None
    return Origin("pic16", piece.address, 4, 2 * target, vectors=1, jump="MOVLP, GOTO")


def _judge(image: Image, part: Part) -> Verdict:
    """Words of 14 bits, and a beginning that is not blank. What it begins with is the compiler's choice: MOVLP and
    GOTO, most often."""
    start = part.flash.usable_start
    why, where = no_words(image)
    if why:
        return Verdict(f"{why}: it was built for another processor", (where,))
    if not image.covers(start, 4):
        return Verdict(notes=(f"nothing at {show_address(start)}, where the program starts: not judged",))
    words = _words(image.cut(start, 4, 0xFF))
    if words[0] in (_BLANK, 0xFFFF):
        return Verdict("there is no program at its beginning: the first word is blank")
    target = _target(words, start // 2)
    if target is not None and not start <= 2 * target < part.flash.end:
        return Verdict(
            "its first jump leads outside the program's space", (f"to word {target:04X}, {show_address(2 * target)}",)
        )
    return Verdict()


PIC16 = Family("pic16", (), "a PIC16's MOVLP and GOTO", 2, True, _origin, _judge)
