"""Cortex-M: a program begins with its first stack pointer and reset handler, the latter with bit 0 set (ARMv7-M
Architecture Reference Manual, B1.5.3; ST AN3155 on `go`); VTOR needs its table on a power of two (B3.2.5). ARM7: its
vectors are instructions (ARM Architecture Reference Manual, A2.6)."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from ..chips.part import Part
from ..errors import RefusedFault, usage
from ..image import Image, Piece
from ..quantities import show_address, show_bytes, show_span
from . import avr
from .family import LONGEST_TABLE, Family, Origin, Verdict, shared_target

if TYPE_CHECKING:
    from .room import Reservation, Side


_STACKS = ((0x20000000, 0x20200000), (0x10000000, 0x10040000), (0x1FFF0000, 0x20000000), (0x24000000, 0x24100000))
"""Where Cortex-M parts have RAM that a first stack pointer points into."""
_TABLE_ALIGNMENT = 0x200
"""Large enough for the tables of all parts here: up to 128 vectors."""


_SMALLEST_LOADER = 0x800
"""Programs that lie behind a bootloader begin at least so far from the start of the flash."""


def word_at(data: bytes, at: int) -> int:
    return int.from_bytes(data[at : at + 4], "little")


def _origin(piece: Piece, image: Image) -> Origin | None:
    if len(piece.data) < 8:
        return None
    stack, reset = word_at(piece.data, 0), word_at(piece.data, 4)
    if stack % 4 or not reset & 1 or not any(low < stack <= high for low, high in _STACKS):
        return None
    return _table(piece, image, stack, reset & ~1)


def _table(piece: Piece, image: Image, stack: int, entry: int) -> Origin | None:
    """The table ends at the first word that is neither 0 nor an odd address near the reset handler."""
    number = 2
    while number < LONGEST_TABLE and 4 * number + 4 <= len(piece.data):
        word = word_at(piece.data, 4 * number)
        near = abs((word & ~1) - entry) < 16 << 20
        if word and not (word & 1 and near):
            break
        number += 1
    base = None
    if not image.touches(entry, 2):
        base = _base_of(entry, len(piece.data))
        if base is None and number < 16:
            return None
    targets = [word_at(piece.data, 4 * n) & ~1 for n in range(2, number) if word_at(piece.data, 4 * n)]
    unused, to = shared_target(targets, number)
    return Origin(
        "cortex-m",
        piece.address,
        4 * number,
        entry,
        stack,
        number,
        unused,
        to,
        base=base if base != piece.address else None,
    )


def _base_of(entry: int, size: int) -> int | None:
    """The round address at which the program must lie for its own reset handler to be inside it."""
    for bits in range(24, 8, -1):
        base = entry >> bits << bits
        if base <= entry < base + size:
            return base
    return None


def _judge(image: Image, part: Part) -> Verdict:
    flash, start = part.flash, part.flash.usable_start
    if not image.covers(start, 8):
        return Verdict(notes=(f"no vectors at {show_address(start)} in this image: not judged",))
    head = image.cut(start, 8, flash.erased)
    stack = int.from_bytes(head[:4], "little")
    reset = int.from_bytes(head[4:], "little")
    shown = f"vectors {show_bytes(head)}: stack {stack:08X}, reset {reset:08X}"
    if not any(ram.start < stack <= ram.start + ram.size for ram in part.ram) or stack % 4:
        areas = ", ".join(f"{ram.start:08X}-{ram.start + ram.size:08X}" for ram in part.ram)
        return Verdict("the first stack pointer is not in RAM", (shown, f"RAM is {areas}", *_other_family(head)))
    if not reset & 1:
        return Verdict("the reset vector is even, so it is no Thumb code", (shown,))
    handler = reset & ~1
    elsewhere = _built_for(image, start, flash.end)
    if elsewhere is not None:
        return Verdict(
            f"it was built for {show_address(elsewhere)}, and would lie at {show_address(start)}",
            (shown, "none of its vectors points into it there"),
            tries=(f"{image.name} at {elsewhere:#010x}", "or link it for the start of the flash"),
        )
    if not start <= handler < flash.end:
        return Verdict(
            "the reset vector points outside the flash",
            (shown, f"flash is {show_address(start)}-{show_address(flash.end - 1)}"),
        )
    if not image.touches(handler, 2):
        return Verdict(notes=(f"the reset handler {show_address(handler)} is not in this image",))
    return Verdict()


def _built_for(image: Image, start: int, end: int) -> int | None:
    """The address in the flash at which all its vectors would point into the image; None if any does where it is."""
    piece = next(piece for piece in image.pieces if piece.address <= start < piece.end)
    at = start - piece.address
    origin = _origin(replace(piece, address=start, data=piece.data[at:]), image)
    if origin is None or origin.base is None or not start + _SMALLEST_LOADER <= origin.base < end:
        return None
    words = [word_at(piece.data, at + 4 * number) & ~1 for number in range(1, origin.vectors)]
    targets = [word for word in words if word]
    size = len(piece.data) - at
    inside = all(origin.base <= target < origin.base + size for target in targets)
    return origin.base if inside and not any(image.touches(target, 2) for target in targets) else None


def _other_family(head: bytes) -> tuple[str, ...]:
    if avr.jump_target(head, 0) is not None:
        return ("it begins with a jump of an 8-bit AVR",)
    if head[:4] == b"\xff\xff\xff\xff":
        return ("it begins blank",)
    return ()


def _reserve(part: Part, size: int, side: Side | None) -> Reservation:
    from .room import at_bottom, at_top

    plan = at_top(part, size, 8) if side == "top" else at_bottom(part, size, _TABLE_ALIGNMENT)
    linker = (
        ("bootloader", f"FLASH (rx) : ORIGIN = 0x{plan.start:X}, LENGTH = 0x{plan.size:X}"),
        ("application", f"FLASH (rx) : ORIGIN = 0x{plan.app_start:X}, LENGTH = 0x{plan.app_bytes:X}"),
    )
    if side == "top":
        return replace(
            plan,
            linker=linker,
            notes=(
                "the first two words of the flash become the bootloader's stack pointer and reset handler",
                f"its interrupts need its own table: VTOR = {plan.start:08X}; a Cortex-M0 has no VTOR",
            ),
        )
    table = plan.app_start
    return replace(
        plan,
        linker=(*linker, ("vectors", f"table at 0x{table:X}, an offset of 0x{plan.size:X}: VTOR = 0x{table:X}")),
        notes=(
            f"to start the application: load SP from {table:08X}, jump to the word at {table + 4:08X}",
            "a Cortex-M0 has no VTOR: copy the table to RAM and let RAM appear at 0",
        ),
    )


def vectors_moved(
    plan: Reservation, slot: int, image: Image, bootloader: Image | None
) -> tuple[Image, tuple[str, ...]]:
    """The application with the first two words of the bootloader, its own moved to the slot. Returns notes; raises
    UsageFault, RefusedFault."""
    from ..image.edit import with_bytes
    from .room import no_reset

    start = plan.part.flash.start
    if bootloader is None:
        raise usage(
            "no-bootloader", "which bootloader? Its first two words go to the start of the flash", "--bootloader FILE"
        )
    fits = bootloader.lowest >= plan.start and bootloader.end <= plan.end
    if not fits or not bootloader.covers(plan.start, 8):
        raise RefusedFault.of(
            "reset-moved",
            f"{bootloader.name} is not a bootloader for this region",
            (
                f"it holds {show_span(bootloader.lowest, bootloader.end - bootloader.lowest)}",
                f"the space is {show_span(plan.start, plan.size)}, and begins with its vectors",
            ),
            (f"build it for {show_address(plan.start)}",),
        )
    if not image.covers(start, 8):
        raise no_reset(image, start, b"")
    own, theirs = image.cut(start, 8, 0xFF), bootloader.cut(plan.start, 8, 0xFF)
    if own == theirs:
        return image, (f"the vectors at {show_address(start)} are the bootloader's already",)
    image = with_bytes(with_bytes(image, slot, own), start, theirs)
    return image, (
        f"{show_address(start)}: {show_bytes(theirs)}, the bootloader's stack pointer and reset handler",
        f"{show_address(slot)}: {show_bytes(own)}, the application's own",
    )


CORTEX_M = Family("cortex-m", ("arm",), "Cortex-M vectors", 2, False, _origin, _judge, _reserve)


def _are_instructions(head: bytes) -> bool:
    """Whether all but the reserved one are instructions that always execute."""
    return len(head) >= 32 and all(head[at + 3] >> 4 == 0xE for at in (0, 4, 8, 12, 16, 24, 28))


def _arm7_origin(piece: Piece, image: Image) -> Origin | None:
    return Origin("arm7", piece.address, 32, vectors=8) if _are_instructions(piece.data[:32]) else None


def _judge_arm7(image: Image, part: Part) -> Verdict:
    """Vectors of an ARM7 are instructions (ARM Architecture Reference Manual, A2.6)."""
    start = part.flash.start
    if not image.covers(start, 32):
        return Verdict(notes=(f"no vectors at {show_address(start)} in this image: not judged",))
    head = image.cut(start, 32, part.flash.erased)
    if not _are_instructions(head):
        return Verdict("its vectors are no ARM instructions", (f"first bytes {show_bytes(head[:16])}",))
    return Verdict()


ARM7 = Family(
    "arm7", ("arm",), "", 4, False, _arm7_origin, _judge_arm7, no_room="its vectors are instructions that stay at 0"
)
