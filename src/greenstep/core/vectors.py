"""Does an image begin as its family's programs begin? Judged before anything is erased.

Cortex-M: word 0 is the first stack pointer, word 1 the reset handler with bit 0 set (ARMv7-M Architecture
Reference Manual, B1.5.3; ST AN3155 on `go`). AVR: the reset vector at 0 is a jump in every compiled program,
but nothing obliges it to be: there only what cannot be right is called so.
"""

from __future__ import annotations

from dataclasses import dataclass

from .chips import Part
from .image import Image
from .quantities import show_address, show_bytes


@dataclass(frozen=True)
class Verdict:
    """`trouble` is why the image cannot run there; empty where it can. `notes` are worth telling."""

    trouble: str = ""
    evidence: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()


def judge_vectors(image: Image, part: Part) -> Verdict:
    """The verdict for an image in a part's flash; an unknown core is not judged."""
    if part.core == "cortex-m":
        return _judge_cortex_m(image, part)
    if part.core == "avr":
        return _judge_avr(image, part)
    return Verdict()


def _judge_cortex_m(image: Image, part: Part) -> Verdict:
    flash = part.flash
    if not image.covers(flash.start, 8):
        return Verdict(notes=(f"no vectors at {show_address(flash.start)} in this image: not judged",))
    head = image.cut(flash.start, 8, flash.erased)
    stack = int.from_bytes(head[:4], "little")
    reset = int.from_bytes(head[4:], "little")
    shown = f"vectors {show_bytes(head)}: stack {stack:08X}, reset {reset:08X}"
    if not any(ram.start < stack <= ram.start + ram.size for ram in part.ram) or stack % 4:
        areas = ", ".join(f"{ram.start:08X}-{ram.start + ram.size:08X}" for ram in part.ram)
        return Verdict("the first stack pointer is not in RAM", (shown, f"RAM is {areas}", *_other_family(head)))
    if not reset & 1:
        return Verdict("the reset vector is even, so it is no Thumb code", (shown,))
    handler = reset & ~1
    if not flash.start <= handler < flash.end:
        return Verdict(
            "the reset vector points outside the flash",
            (shown, f"flash is {show_address(flash.start)}-{show_address(flash.end - 1)}"),
        )
    if not image.touches(handler, 2):
        return Verdict(notes=(f"the reset handler {show_address(handler)} is not in this image",))
    return Verdict()


def _judge_avr(image: Image, part: Part) -> Verdict:
    flash = part.flash
    if not image.covers(flash.start, 4):
        return Verdict(notes=("no reset vector at 0000 in this image: not judged",))
    head = image.cut(flash.start, 8, flash.erased)
    shown = f"first bytes {show_bytes(head)}"
    first = head[0] | head[1] << 8
    if first == 0xFFFF:
        return Verdict("there is no reset vector: the first word is blank", (shown,))
    if first & 0xFE0E == 0x940C:  # JMP: 22 address bits, in words (AVR Instruction Set Manual, JMP)
        words = (first & 0x01F0) << 13 | (first & 1) << 16 | head[2] | head[3] << 8
        if words * 2 >= flash.size:
            return Verdict("the reset vector jumps beyond the flash", (shown, f"JMP to {show_address(words * 2)}"))
        return Verdict()
    if first & 0xF000 == 0xC000:  # RJMP reaches all round
        return Verdict()
    stack, reset = int.from_bytes(head[:4], "little"), int.from_bytes(head[4:], "little")
    if stack >> 24 in (0x10, 0x20, 0x24) and reset & 1:
        return Verdict("the image begins with Cortex-M vectors", (shown, f"stack {stack:08X}, reset {reset:08X}"))
    if all(32 <= byte < 127 or byte in (9, 10, 13) for byte in image.cut(flash.start, 32, 0xFF)):
        return Verdict("the image begins with text", (shown,))
    return Verdict(notes=("the image does not begin with a jump, as compiled programs do",))


def _other_family(head: bytes) -> tuple[str, ...]:
    first = head[0] | head[1] << 8
    if first & 0xFE0E == 0x940C or first & 0xF000 == 0xC000:
        return ("it begins with a jump of an 8-bit AVR",)
    if head[:4] == b"\xff\xff\xff\xff":
        return ("it begins blank",)
    return ()
