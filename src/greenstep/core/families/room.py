"""Space in the flash for a resident bootloader: where it begins, what jumps to it and from it, what the compiler is
told."""

from __future__ import annotations

from typing import Literal

from ..chips.part import Memory, Part
from ..errors import RefusedFault, usage
from ..frozen import frozen
from ..image import Image
from ..quantities import show_address, show_bytes, show_size

Side = Literal["top", "bottom"]


@frozen
class Jump:
    """Bytes that must stand at `address`, and what they are: GOTO FC00."""

    address: int
    code: bytes
    words: str


@frozen
class Reservation:
    """The bootloader's space, `start` to before `end`, and the application's, `app_start` to before `app_end`.
    `jumps` must stand in the flash for both to be reached; `slot` is where the application's own reset jump or
    vectors are kept (top only), which belongs to neither. `linker` are values for the compiler, `notes` what else a
    person must know."""

    part: Part
    side: Side
    wanted: int
    start: int
    end: int
    app_start: int
    app_end: int
    why: str
    jumps: tuple[Jump, ...] = ()
    slot: int | None = None
    linker: tuple[tuple[str, str], ...] = ()
    notes: tuple[str, ...] = ()

    @property
    def size(self) -> int:
        return self.end - self.start

    @property
    def app_bytes(self) -> int:
        return self.app_end - self.app_start


def at_top(part: Part, size: int, slot_bytes: int) -> Reservation:
    """The last erase units, and just below them a slot for the application's own reset. Raises UsageFault."""
    flash = part.flash
    start = flash.units_touched(flash.end - size, size)[0].address
    slot = start - slot_bytes
    _left(flash, flash.start, slot, size)
    why = _unit_words(flash, start, flash.end)
    return Reservation(part, "top", size, start, flash.end, flash.start, slot, why, slot=slot)


def at_bottom(part: Part, size: int, alignment: int) -> Reservation:
    """The first erase units, as many as end on a multiple of `alignment`. Raises UsageFault."""
    flash = part.flash
    end = flash.units_touched(flash.start, size)[-1].end
    while end < flash.end and (end - flash.start) % alignment:
        end = flash.units_touched(end, 1)[0].end
    _left(flash, end, flash.end, size)
    why = _unit_words(flash, flash.start, end)
    return Reservation(part, "bottom", size, flash.start, end, end, flash.end, why)


def _left(memory: Memory, start: int, end: int, size: int) -> None:
    """Raises UsageFault if nothing is left for an application."""
    if start >= end:
        whole = f"with its erase units {size:,} bytes take the whole flash ({show_size(memory.size)})"
        raise usage("reserve-size", whole, "a smaller bootloader, or a part with more flash")


def _unit_words(memory: Memory, start: int, end: int) -> str:
    units = memory.units_touched(start, end - start)
    sizes = sorted({unit.size for unit in units})
    words = " and ".join(show_size(size) for size in sizes)
    return f"{len(units)} erase unit{'s' if len(units) > 1 else ''} of {words}"


def no_reset(image: Image, start: int, head: bytes) -> RefusedFault:
    """Why an image's reset cannot be moved: `head` is what it begins with at `start`."""
    shown = show_bytes(head) if head else "nothing"
    return RefusedFault.of(
        "reset-moved",
        f"{image.name} has no jump at {show_address(start)} that could be moved",
        (f"{shown} at {show_address(start)}",),
        ("is it the application, and for this chip?",),
    )
