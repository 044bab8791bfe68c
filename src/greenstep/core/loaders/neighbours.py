"""An application beside a resident bootloader: whether it stays out of the bootloader's space and its vectors fit;
and its reset vector moved, so that reset leads to the bootloader and the bootloader finds the application."""

from __future__ import annotations

from dataclasses import replace

from ..chips.part import Part
from ..errors import RefusedFault, usage
from ..families import FAMILIES, judge_vectors
from ..families.arm import vectors_moved
from ..families.pic18 import code_only
from ..families.room import Reservation, no_reset
from ..image import Image
from ..image.edit import with_bytes
from ..quantities import show_address, show_bytes, show_span


def check_application(plan: Reservation, image: Image) -> tuple[str, ...]:
    """Check that an application can live beside the bootloader. Returns notes; raises RefusedFault."""
    if plan.part.core == "pic18":  # configuration words and EEPROM in its hex file take no space
        image, _ = code_only(image, plan.part.flash.end)
        if not image.pieces:
            return ("it holds no code",)
    outside = [p for p in image.pieces if p.address < plan.app_start or p.end > plan.app_end]
    if outside:
        piece = outside[0]
        inside = show_span(plan.app_start, plan.app_bytes)
        raise RefusedFault.of(
            "hits-bootloader",
            f"{image.name} needs the bootloader's space",
            (f"it holds {show_span(piece.address, len(piece.data))}", f"applications have {inside}"),
            (f"build it for {inside}", "or give the bootloader less: --size"),
        )
    verdict = judge_vectors(image, _seen_by_application(plan))
    if verdict.trouble:
        raise RefusedFault.of(
            "vectors",
            f"{image.name} would not run there: {verdict.trouble}",
            verdict.evidence,
            (f"build it for a start at {show_address(plan.app_start)}",),
        )
    return verdict.notes


def _seen_by_application(plan: Reservation) -> Part:
    """The part as if its flash were the application's space."""
    flash = plan.part.flash
    runs: list[tuple[int, int]] = []
    for unit in flash.units_touched(plan.app_start, plan.app_bytes):
        if runs and runs[-1][1] == unit.size:
            runs[-1] = (runs[-1][0] + 1, unit.size)
        else:
            runs.append((1, unit.size))
    room = replace(flash, start=plan.app_start, layout=tuple(runs), reserved_top=0, reserved_bottom=0)
    return plan.part.with_memory(room)


def with_reset_moved(plan: Reservation, image: Image, bootloader: Image | None) -> tuple[Image, tuple[str, ...]]:
    """The application with reset leading to the bootloader, and its own reset kept in the slot below it.

    `bootloader` is needed on a Cortex-M, whose first two words become that image's. Returns notes; raises UsageFault,
    RefusedFault.
    """
    if plan.slot is None:
        raise usage(
            "reset-moved",
            "nothing is moved: with a bootloader at the bottom reset begins in it",
            f"build the application for {show_address(plan.app_start)}",
        )
    start = plan.part.flash.start
    jumps = FAMILIES[plan.part.core].jumps
    if jumps is None:
        return vectors_moved(plan, plan.slot, image, bootloader)
    if not image.covers(start, 4):
        raise no_reset(image, start, b"")
    head = image.cut(start, 4, 0xFF)
    target = jumps.target(head, start)
    if target is None:
        raise no_reset(image, start, head)
    target %= plan.part.flash.size
    if target == plan.start:
        return image, (f"its jump at {show_address(start)} leads to the bootloader already",)
    own = jumps.code(plan.slot, target, plan.part.flash.size)
    if len(plan.jumps[0].code) == 4 and head[1] & 0xF0 == 0xC0:
        raise _no_room_for_jmp(image, head, start)
    image = with_bytes(with_bytes(image, plan.slot, own), start, plan.jumps[0].code)
    return image, (
        f"{show_address(start)}: {show_bytes(plan.jumps[0].code)}, to the bootloader",
        f"{show_address(plan.slot)}: {show_bytes(own)}, the application's own, to {show_address(target)}",
    )


def _no_room_for_jmp(image: Image, head: bytes, start: int) -> RefusedFault:
    """A table of RJMP has two bytes for each."""
    return RefusedFault.of(
        "reset-moved",
        f"{image.name} begins with RJMP, and JMP has no room in its table",
        (f"{show_bytes(head)} at {show_address(start)}",),
        ("build it for this chip, whose vectors are of four bytes", "or program the fuse BOOTRST"),
    )
