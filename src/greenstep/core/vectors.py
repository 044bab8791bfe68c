"""Does an image begin as its family's programs begin? Judged before anything is erased.

Cortex-M: word 0 is the first stack pointer, word 1 the reset handler with bit 0 set (ARMv7-M Architecture
Reference Manual, B1.5.3; ST AN3155 on `go`). AVR: the reset vector at 0 is a jump in every compiled program,
but nothing obliges it to be: there only what cannot be right is called so.
"""

from __future__ import annotations

from .chips import Part
from .frozen import frozen
from .image import Image
from .image.origin import jump_target, origins_of
from .image.pic18 import goto_target
from .quantities import show_address, show_bytes

_CORES = {"arm": ("cortex-m", "arm7"), "avr": ("avr",), "xtensa": ("esp",), "riscv": ("esp",)}
"""Which cores run what an ELF file says it was built for."""


@frozen
class Verdict:
    """`trouble` is why the image cannot run there; empty where it can. `notes` are worth telling."""

    trouble: str = ""
    evidence: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()


def judge_vectors(image: Image, part: Part) -> Verdict:
    """The verdict for an image in a part's flash; an unknown core is not judged."""
    cores = _CORES.get(image.machine)
    if image.machine and part.core != "any" and part.core not in (cores or ()):
        return Verdict(f"it was built for another processor: {image.machine}", (f"the {part.title} is {part.core}",))
    foreign = _foreign(image, part)
    if foreign:
        return Verdict(f"the image begins as one for another chip: {foreign}", _first_bytes(image))
    if part.core == "cortex-m":
        return _judge_cortex_m(image, part)
    if part.core == "avr":
        return _judge_avr(image, part)
    if part.core == "pic18":
        return _judge_pic18(image, part)
    if part.core == "arm7":
        return _judge_arm7(image, part)
    return Verdict()


_HOME = {"cortex-m": "cortex-m", "avr": "avr", "pic18": "pic18", "esp": "esp"}
_BEGINNINGS = {
    "cortex-m": "Cortex-M vectors",
    "avr": "a table of AVR jumps",
    "pic18": "a PIC18's GOTO",
    "esp": "an ESP boot header",
}


def _foreign(image: Image, part: Part) -> str:
    """What of another family stands where this part's programs begin; empty where nothing does."""
    home = _HOME.get(part.core)
    if home is None or not image.pieces:
        return ""
    begins = {part.flash.start, part.flash.usable_start, image.lowest}
    for origin in origins_of(image):
        whole = origin.header is not None if origin.family == "esp" else origin.base is None
        if origin.family in _BEGINNINGS and origin.family != home and origin.address in begins and whole:
            return _BEGINNINGS[origin.family]
    return ""


def _first_bytes(image: Image) -> tuple[str, ...]:
    return (f"first bytes {show_bytes(image.pieces[0].data[:8])}",)


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
    target = jump_target(head, flash.start)
    if target is not None:  # an RJMP reaches all round, so that only a JMP can go too far
        if target >= flash.size and first & 0xF000 != 0xC000:
            return Verdict("the reset vector jumps beyond the flash", (shown, f"JMP to {show_address(target)}"))
        return Verdict()
    stack, reset = int.from_bytes(head[:4], "little"), int.from_bytes(head[4:], "little")
    if stack >> 24 in (0x10, 0x20, 0x24) and reset & 1:
        return Verdict("the image begins with Cortex-M vectors", (shown, f"stack {stack:08X}, reset {reset:08X}"))
    if all(32 <= byte < 127 or byte in (9, 10, 13) for byte in image.cut(flash.start, 32, 0xFF)):
        return Verdict("the image begins with text", (shown,))
    return Verdict(notes=("the image does not begin with a jump, as compiled programs do",))


def _judge_pic18(image: Image, part: Part) -> Verdict:
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
        return Verdict("the reset vector jumps out of the flash", (*shown, f"GOTO {show_address(target)}"))
    return Verdict()


def _judge_arm7(image: Image, part: Part) -> Verdict:
    """Vectors of an ARM7 are instructions (ARM Architecture Reference Manual, A2.6)."""
    start = part.flash.start
    if not image.covers(start, 32):
        return Verdict(notes=(f"no vectors at {show_address(start)} in this image: not judged",))
    head = image.cut(start, 32, part.flash.erased)
    always = [head[at + 3] >> 4 == 0xE for at in (0, 4, 8, 12, 16, 24, 28)]
    if not all(always):
        return Verdict("its vectors are no ARM instructions", (f"first bytes {show_bytes(head[:16])}",))
    return Verdict()


def _other_family(head: bytes) -> tuple[str, ...]:
    if jump_target(head, 0) is not None:
        return ("it begins with a jump of an 8-bit AVR",)
    if head[:4] == b"\xff\xff\xff\xff":
        return ("it begins blank",)
    return ()
