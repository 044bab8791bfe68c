"""AVR: a program begins with a table of JMP or RJMP (AVR Instruction Set Manual), though nothing obliges it to: only
what cannot be right is called wrong.

Its bootloader lies in the boot section at the end of the flash, the only place from which SPM writes (data sheets,
"Boot Loader Support", "Boot Size Configuration"). None of the dialects reports its size; its code shows it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING

from ..chips.part import Memory, Part
from ..errors import usage
from ..image import Image, Piece
from ..quantities import show_address, show_bytes
from .family import LONGEST_TABLE, Family, Jumps, Origin, Verdict, shared_target

if TYPE_CHECKING:
    from .room import Reservation, Side

_FEWEST_JUMPS = 3
_VECTORS = (
    (r"atmega8$", 19), (r"(atmega(48|88|168|328)p?a?|lgt8f\d+p?)$", 26), (r"atmega328pb$", 45),
    (r"atmega(16|32|8535)a?$", 21), (r"atmega162$", 28), (r"atmega(64|128)a?$", 35), (r"atmega169p?a?$", 23),
    (r"atmega644a?$", 28), (r"atmega(164|324|644)pa?$", 31), (r"atmega1284p?$", 35),
    (r"atmega(640|1280|1281|2560|2561)$", 57),
    (r"at90can\d+$", 37), (r"atmega(16|32)u4$", 43), (r"at90usb(646|647|1286|1287)$", 38),
)  # fmt: skip
"""How many vectors a part has, by its name (data sheets, "Interrupt Vectors"). Parts that are not here are not
judged by it."""
_LARGEST = {8: 2048, 16: 2048, 32: 4096, 64: 8192, 128: 8192, 256: 8192}
"""The largest boot section in bytes, by KiB of flash; the others are 1/2, 1/4 and 1/8 of it."""
_BLANK_BEFORE = 16
_RET = b"\x08\x95"
_SPM = (b"\xe8\x95", b"\xf8\x95")
"""SPM and SPM Z+ (the same)."""


def jump_target(code: bytes, address: int) -> int | None:
    """The byte address that an AVR's JMP or RJMP at `address` goes to, for RJMP without wrapping at the end of the
    flash; None if the bytes are neither."""
    if len(code) < 2:
        return None
    first = code[0] | code[1] << 8
    if first & 0xFE0E == 0x940C and len(code) >= 4:
        return 2 * ((first & 0x01F0) << 13 | (first & 1) << 16 | code[2] | code[3] << 8)
    if first & 0xF000 == 0xC000:
        words = first & 0x0FFF
        return address + 2 + 2 * (words - 0x1000 if words & 0x800 else words)
    return None


def jump_code(address: int, target: int, flash_bytes: int) -> bytes:
    """JMP, or RJMP on parts of up to 8 KiB, where it reaches everything (AVR Instruction Set Manual)."""
    words = target // 2
    if flash_bytes > 8192:
        first = 0x940C | (words >> 17 & 0x1F) << 4 | words >> 16 & 1
        return first.to_bytes(2, "little") + (words & 0xFFFF).to_bytes(2, "little")
    return (0xC000 | (words - address // 2 - 1) & 0x0FFF).to_bytes(2, "little")


def _origin(piece: Piece, image: Image) -> Origin | None:
    """JMP is two words, 940C and the target; RJMP one, Ckkk, with a target relative to the next word."""
    data = piece.data
    if len(data) < 4:
        return None
    first = data[0] | data[1] << 8
    jmp = first & 0xFE0E == 0x940C
    if not jmp and first & 0xF000 != 0xC000:
        return None
    step = 4 if jmp else 2
    targets: list[int] = []
    for at in range(0, min(len(data) - step + 1, step * LONGEST_TABLE), step):
        target = jump_target(data[at : at + step], piece.address + at)
        if target is None:
            break
        targets.append(target)
    if len(targets) < _FEWEST_JUMPS:
        return None
    unused, to = shared_target(targets[1:], len(targets))
    return Origin(
        "avr",
        piece.address,
        step * len(targets),
        targets[0],
        vectors=len(targets),
        unused=unused,
        unused_to=to,
        jump="JMP" if jmp else "RJMP",
    )


def _judge(image: Image, part: Part) -> Verdict:
    flash = part.flash
    if not image.covers(flash.start, 4):
        return Verdict(notes=("no reset vector at 0000 in this image: not judged",))
    head = image.cut(flash.start, 8, flash.erased)
    shown = f"first bytes {show_bytes(head)}"
    first = head[0] | head[1] << 8
    if first == 0xFFFF:
        return Verdict("there is no reset vector: the first word is blank", (shown,))
    target = jump_target(head, flash.start)
    longer = _longer_table(image, part)
    if longer is not None:
        return longer
    if target is not None:  # an RJMP wraps, so only a JMP can go too far
        if target >= flash.size and first & 0xF000 != 0xC000:
            return Verdict("the reset vector jumps beyond the flash", (shown, f"JMP to {show_address(target)}"))
        return Verdict()
    stack, reset = int.from_bytes(head[:4], "little"), int.from_bytes(head[4:], "little")
    if stack >> 24 in (0x10, 0x20, 0x24) and reset & 1:
        return Verdict("the image begins with Cortex-M vectors", (shown, f"stack {stack:08X}, reset {reset:08X}"))
    if all(32 <= byte < 127 or byte in (9, 10, 13) for byte in image.cut(flash.start, 32, 0xFF)):
        return Verdict("the image begins with text", (shown,))
    return Verdict(notes=("the image does not begin with a jump, as compiled programs do",))


def vectors_of(part: Part) -> int | None:
    """How many vectors a part has, as far as it is known here."""
    return next((number for name, number in _VECTORS if re.match(name, part.name)), None)


def _longer_table(image: Image, part: Part) -> Verdict | None:
    """A table that is as long as another part's, and longer than this part's: then its interrupts go astray. Jumps
    that merely follow a table do not make it one: most of a table's go to one place, where unused vectors end."""
    own = vectors_of(part)
    piece = next(piece for piece in image.pieces if piece.address <= part.flash.start < piece.end)
    origin = _origin(piece, image)
    if own is None or origin is None or origin.vectors <= own or origin.unused * 2 < origin.vectors:
        return None
    if origin.vectors not in {number for _, number in _VECTORS}:
        return None
    return Verdict(
        f"it was built for another AVR: its vector table has {origin.vectors} entries, the {part.title}'s has {own}",
        (f"{origin.unused} of them go to {show_address(origin.unused_to or 0)}",),
        tries=("choose the board or the chip again where it was built, and build it anew",),
    )


def boot_sections(flash_bytes: int) -> tuple[int, ...]:
    """The sizes in bytes that a boot section can have, largest first."""
    largest = _LARGEST[flash_bytes // 1024]
    return tuple(largest // share for share in (1, 2, 4, 8))


def loader_start(memory: Memory, top: bytes) -> int | None:
    """Where the loader begins, judged by `top`, the content of the end of the flash; `memory.end` if all of it is
    blank, None if it cannot be told.

    A word that looks like a jump is no evidence: an old program may reach up to the loader. What only a loader has is
    SPM, which works in the boot section alone, and calls that belong together with it. So a larger section is the
    loader's if SPM stands in the part by which it is larger, or that part is jumped to from behind it, or calls
    routines there; or if it follows blank space, and SPM stands in it.
    """
    blank = bytes([memory.erased])
    if not top.strip(blank):
        return memory.end
    start: int | None = None
    behind = len(top)
    for at in sorted((len(top) - size for size in boot_sections(memory.size) if size <= len(top)), reverse=True):
        part, known = range(at, behind), range(behind, len(top))
        if _writes_flash(top[at:behind]) or (
            start is not None and (_jumps(top, known, part) or _calls(top, part, known))
        ):
            start = at
        elif start is not None:
            before = top[max(0, at - _BLANK_BEFORE) : at]
            apart = bool(before) and not before.strip(blank) and bool(top[at : at + _BLANK_BEFORE].strip(blank))
            return memory.end - len(top) + (at if apart else start)
        behind = at
    return None if start is None else memory.end - len(top) + start


def _writes_flash(code: bytes) -> bool:
    """Whether SPM is among the words."""
    return any(code[at : at + 2] in _SPM for at in range(0, len(code) - 1, 2))


def _jumps(top: bytes, places: range, wanted: range) -> bool:
    """Whether RJMP or RCALL at one of the places goes to the wanted ones."""
    return any(target in wanted for _, target in _relative(top, places))


def _calls(top: bytes, places: range, wanted: range) -> bool:
    """Whether RCALL at one of the places goes to a routine, which stands behind another's RET, among the wanted."""
    return any(
        call and target in wanted and top[target - 2 : target] == _RET for call, target in _relative(top, places)
    )


def _relative(top: bytes, places: range) -> Iterator[tuple[bool, int]]:
    """(whether it is a call, where it goes) of each word that may be RJMP or RCALL."""
    for at in range(places.start, places.stop - 1, 2):
        word = top[at] | top[at + 1] << 8
        if word & 0xE000 == 0xC000:
            words = word & 0x0FFF
            yield word & 0x1000 != 0, at + 2 + 2 * (words - 0x1000 if words & 0x800 else words)


def leads_to_loader(memory: Memory, vector: bytes) -> bool:
    """Whether the jump at 0 goes into a boot section, as it does if reset does not begin there."""
    target = jump_target(vector, memory.start)
    if target is None:
        return False
    return target % memory.size >= memory.end - boot_sections(memory.size)[0]


def _reserve(part: Part, size: int, side: Side | None) -> Reservation:
    from .room import Jump, Reservation

    if side == "bottom":
        raise usage(
            "reserve-side",
            f"a bootloader at the bottom of the {part.title} could not write",
            "--at top: SPM writes only from the boot section, which is there",
        )
    flash = part.flash
    *sections, largest = reversed(boot_sections(flash.size))
    sections.append(largest)
    room = next((section for section in sections if section >= size), None)
    if room is None:
        raise usage("reserve-size", f"{size:,} bytes: the largest boot section of the {part.title} is {largest:,}")
    start = flash.end - room
    long = flash.size > 8192
    slot = start - (4 if long else 2)
    return Reservation(
        part,
        "top",
        size,
        start,
        flash.end,
        flash.start,
        slot,
        f"boot sections here are {', '.join(f'{section:,}' for section in sections)} bytes (fuses BOOTSZ)",
        (Jump(flash.start, jump_code(flash.start, start, flash.size), f"{'JMP' if long else 'RJMP'} {start:04X}"),),
        slot,
        (
            ("bootloader", f"-Wl,--section-start=.text=0x{start:X}"),
            ("application", f".text from 0x0, at most 0x{slot:X} bytes"),
        ),
        ("with the fuse BOOTRST programmed reset begins in the bootloader, and no jump is needed",),
    )


AVR = Family(
    "avr", ("avr",), "a table of AVR jumps", 2, True, _origin, _judge, _reserve, jumps=Jumps(jump_target, jump_code)
)
