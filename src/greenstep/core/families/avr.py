"""AVR: a program begins with a table of JMP or RJMP (AVR Instruction Set Manual), though nothing obliges it to: only
what cannot be right is called wrong.

Its bootloader lies in the boot section at the end of the flash, the only place from which SPM writes (data sheets,
"Boot Loader Support", "Boot Size Configuration"). None of the dialects reports its size; its code shows it.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..chips import Memory, Part
from ..errors import usage
from ..image import Image, Piece
from ..quantities import show_address, show_bytes
from .family import Family, Jumps, Verdict
from .origin import LONGEST_TABLE, Origin, shared_target

if TYPE_CHECKING:
    from .room import Reservation, Side

_FEWEST_JUMPS = 3
_LARGEST = {8: 2048, 16: 2048, 32: 4096, 64: 8192, 128: 8192, 256: 8192}
"""The largest boot section in bytes, by KiB of flash; the others are 1/2, 1/4 and 1/8 of it."""
_BLANK_BEFORE = 16
_CLEAR_R1 = b"\x11\x24"
"""EOR R1,R1, with which compiled programs and loaders begin (AVR Instruction Set Manual)."""


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


def boot_sections(flash_bytes: int) -> tuple[int, ...]:
    """The sizes in bytes that a boot section can have, largest first."""
    largest = _LARGEST[flash_bytes // 1024]
    return tuple(largest // share for share in (1, 2, 4, 8))


def loader_start(memory: Memory, top: bytes) -> int:
    """Where the loader begins, judged by `top`, the content of the end of the flash; `memory.end` if all of it is
    blank.

    A section begins with code. If that follows blank space, it is the loader's beginning; if an application reaches
    up to it, it is one if it is a jump into the section, or what compilers begin with.
    """
    blank = bytes([memory.erased])
    starts = [len(top) - size for size in boot_sections(memory.size) if size <= len(top)]
    for at in starts:
        code = top[at:]
        if not code[:_BLANK_BEFORE].strip(blank):
            continue
        before = top[max(0, at - _BLANK_BEFORE) : at]
        place = memory.end - len(top) + at
        target = jump_target(code[:4], place)
        if target is not None and target >= memory.end:  # RJMP wraps at the end
            target -= memory.size
        begins = code[:2] == _CLEAR_R1 or (target is not None and place < target < memory.end)
        if begins or (before and not before.strip(blank)):
            return place
    tail = top.rstrip(blank)
    if not tail:
        return memory.end
    return next((memory.end - len(top) + at for at in reversed(starts) if top[at:].strip(blank)), memory.end)


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
