"""PIC18: GOTO at the reset vector 0000, interrupts at 0008 and 0018 (data sheets, "Memory Organization", "GOTO").

A hex file holds more than code: configuration words at 300000, user ids at 200000 and the EEPROM at F00000. A
bootloader writes code.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from ..chips.part import Part
from ..image import Image, Piece
from ..quantities import count, show_address, show_bytes, show_span
from .family import Family, Jumps, Origin, Verdict

if TYPE_CHECKING:
    from .room import Reservation, Side

_PIC_INTERRUPTS = (0x08, 0x18)
_OTHER = (
    (0x200000, 0x200100, "user ids"),
    (0x300000, 0x300100, "configuration words"),
    (0x310000, 0x311000, "EEPROM"),
    (0xF00000, 0xF01000, "EEPROM"),
)
"""From, to before, and what is there; from the K40 on the EEPROM is the first of the two."""


def code_only(image: Image, flash_end: int, config_bytes: int = 0) -> tuple[Image, tuple[str, ...]]:
    """The image reduced to code, and what was left out, in words. Anything beyond the flash and in none of these
    places stays, for the part's own check to refuse. `config_bytes`: this many bytes at the end of the flash are
    configuration words, as on the J parts."""
    notes, pieces = [], []
    config = flash_end - config_bytes
    for piece in _apart(image, config, flash_end) if config_bytes else image.pieces:
        place = next((name for start, end, name in _OTHER if start <= piece.address and piece.end <= end), "")
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
    """The pieces, with everything from `start` to before `end` split off."""
    return [
        Piece(low, piece.data[low - piece.address : high - piece.address])
        for piece in image.pieces
        for first, last in ((0, start), (start, end), (end, 1 << 32))
        if (low := max(first, piece.address)) < (high := min(last, piece.end))
    ]


def in_words(image: Image) -> str:
    """The span of an image as the program counter counts it, in 16-bit words."""
    return f"in words {show_span(image.lowest // 2, (image.end - image.lowest + 1) // 2)}"


def goto(address: int) -> bytes:
    """The four bytes of GOTO to a byte address: EF kk, F0 kk, low byte first."""
    k = address // 2
    return (0xEF00 | k & 0xFF).to_bytes(2, "little") + (0xF000 | k >> 8 & 0xFFF).to_bytes(2, "little")


def goto_target(data: bytes) -> int | None:
    """The byte address that four bytes jump to; None if they are no GOTO."""
    if len(data) < 4 or data[1] != 0xEF or data[3] & 0xF0 != 0xF0:
        return None
    return 2 * (data[0] | (data[2] | (data[3] & 0x0F) << 8) << 8)


def _origin(piece: Piece, image: Image) -> Origin | None:
    target = goto_target(piece.data[:4])
    if target is None or not image.touches(target, 2):
        return None
    return Origin("pic18", piece.address, 4, target, vectors=1, jump="GOTO")


def _judge(image: Image, part: Part) -> Verdict:
    """Compilers put a GOTO where the program starts (PIC18 data sheets, "Reset vector")."""
    start = part.flash.usable_start
    if not image.covers(start, 4):
        return Verdict(notes=(f"nothing at {show_address(start)}, where the program starts: not judged",))
    head = image.cut(start, 16, part.flash.erased)
    shown = (f"first bytes {show_bytes(head[:8])}",)
    if head[:4] == b"\xff\xff\xff\xff":
        return Verdict("there is no reset vector: the first words are blank", shown)
    target = goto_target(head)
    if target is None and all(32 <= byte < 127 or byte in (9, 10, 13) for byte in head):
        return Verdict("it begins with text and no GOTO", shown)
    if target is None:
        return Verdict(notes=("the image does not begin with a GOTO, as compiled programs do",))
    if not start <= target < part.flash.end:
        return Verdict("the reset vector jumps outside the flash", (*shown, f"GOTO {show_address(target)}"))
    return Verdict()


def _reserve(part: Part, size: int, side: Side | None) -> Reservation:
    from .room import Jump, at_bottom, at_top

    if side == "bottom":
        plan = at_bottom(part, size, 1)
        end = plan.end
        return replace(
            plan,
            jumps=tuple(Jump(at, goto(end + at), f"GOTO {end + at:04X}, interrupts") for at in _PIC_INTERRUPTS),
            linker=(
                ("bootloader", f"program memory 0x0-0x{end - 1:X}"),
                ("application", f"code offset 0x{end:X}: reset at 0x{end:X}, interrupts at 0x{end + 8:X}, "
                                f"0x{end + 0x18:X}"),
            ),
        )  # fmt: skip
    plan = at_top(part, size, 4)
    return replace(
        plan,
        jumps=(Jump(plan.app_start, goto(plan.start), f"GOTO {plan.start:04X}"),),
        linker=(
            ("bootloader", f"program memory 0x{plan.start:X}-0x{plan.end - 1:X}"),
            ("application", f"program memory 0x0-0x{plan.app_end - 1:X}"),
        ),
    )


PIC18 = Family(
    "pic18", (), "a PIC18's GOTO", 2, True, _origin, _judge, _reserve,
    jumps=Jumps(lambda code, at: goto_target(code), lambda at, target, flash_bytes: goto(target)),
)  # fmt: skip
