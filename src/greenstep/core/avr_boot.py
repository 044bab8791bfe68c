"""Where an AVR's bootloader lies: in its boot section at the end of the flash, the only place from which SPM writes
(data sheets, "Boot Loader Support", "Boot Size Configuration"). None of the dialects tells how large it is: its code
does."""

from __future__ import annotations

from .chips import Memory
from .image.origin import jump_target

_LARGEST = {8: 2048, 16: 2048, 32: 4096, 64: 8192, 128: 8192, 256: 8192}
"""The largest boot section in bytes, by KiB of flash; the others are 1/2, 1/4 and 1/8 of it."""
_BLANK_BEFORE = 16
_CLEAR_R1 = b"\x11\x24"
"""EOR R1,R1, with which compiled programs and loaders begin (AVR Instruction Set Manual)."""


def boot_sections(flash_bytes: int) -> tuple[int, ...]:
    """The sizes in bytes that a boot section can have, the largest first."""
    largest = _LARGEST[flash_bytes // 1024]
    return tuple(largest // share for share in (1, 2, 4, 8))


def loader_start(memory: Memory, top: bytes) -> int:
    """Where the loader begins, by `top`, what the end of the flash holds; `memory.end` where all of it is blank.

    A section begins with code. Where that comes after blank room it is the loader's beginning; where an application
    reaches up to it, it is if it is a jump into the section, or what compilers begin with.
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
        if target is not None and target >= memory.end:  # RJMP goes round the end
            target -= memory.size
        begins = code[:2] == _CLEAR_R1 or (target is not None and place < target < memory.end)
        if begins or (before and not before.strip(blank)):
            return place
    tail = top.rstrip(blank)
    if not tail:
        return memory.end
    return next((memory.end - len(top) + at for at in reversed(starts) if top[at:].strip(blank)), memory.end)


def leads_to_loader(memory: Memory, vector: bytes) -> bool:
    """Whether the jump at 0 goes to the room of a boot section, as where reset does not begin in it."""
    target = jump_target(vector, memory.start)
    if target is None:
        return False
    return target % memory.size >= memory.end - boot_sections(memory.size)[0]
