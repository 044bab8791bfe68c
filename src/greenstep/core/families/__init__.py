"""Families of processors, each a value in a file of its name; and the questions asked of all of them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..chips.part import Part
from ..errors import usage
from ..image import Image
from ..quantities import show_bytes, show_size
from .arm import ARM7, CORTEX_M
from .avr import AVR
from .esp import ESP, origins_in
from .family import Family, Origin, Verdict
from .pic16 import PIC16
from .pic18 import PIC18

if TYPE_CHECKING:
    from .room import Reservation, Side

FAMILIES: dict[str, Family] = {family.core: family for family in (CORTEX_M, ARM7, AVR, PIC18, PIC16, ESP)}
"""By the core that part records name; in the order in which beginnings are tried."""


_MANY, _LEAST_OF_MANY = 256, 8


def origins_of(image: Image) -> tuple[Origin, ...]:
    """The programs and tables that begin in an image, in order of address; nothing inside another is reported."""
    pieces = image.pieces
    if len(pieces) > _MANY:  # programs are not scattered byte by byte
        pieces = tuple(piece for piece in pieces if len(piece.data) >= _LEAST_OF_MANY)
    found = [origin for piece in pieces for origin in origins_in(piece)]
    taken = {origin.address for origin in found}
    for piece in pieces:
        if piece.address not in taken:
            begun = (family.origin(piece, image) for family in FAMILIES.values() if family is not ESP)
            found += [origin for origin in begun if origin is not None][:1]
    return tuple(sorted(found, key=lambda origin: origin.address))


def judge_vectors(image: Image, part: Part) -> Verdict:
    """Whether an image begins as programs for a part's family do; an unknown core is not judged."""
    family = FAMILIES.get(part.core)
    if image.machine and part.core != "any" and (family is None or image.machine not in family.machines):
        known = any(image.machine in other.machines for other in FAMILIES.values())
        if known or family is not None:
            return Verdict(
                f"it was built for another processor: {image.machine}", (f"the {part.title} is {part.core}",)
            )
    if family is None:
        return Verdict()
    foreign = _foreign(image, part)
    if foreign:
        shown = f"first bytes {show_bytes(image.pieces[0].data[:8])}"
        return Verdict(f"the image begins like one for another chip: {foreign}", (shown,))
    return family.judge(image, part)


def _foreign(image: Image, part: Part) -> str:
    """The other family's beginning that stands where this part's programs begin; empty if there is none."""
    if part.core not in FAMILIES or part.core == "arm7" or not image.pieces:
        return ""
    begins = {part.flash.start, part.flash.usable_start, image.lowest}
    for origin in origins_of(image):
        other = FAMILIES.get(origin.family)
        whole = origin.header is not None if origin.family == "esp" else origin.base is None
        if other is not None and other.begins_with and other.core != part.core and origin.address in begins and whole:
            return other.begins_with
    return ""


def has_partitions(part: Part) -> bool:
    """Whether a table in the part's flash may divide it."""
    family = FAMILIES.get(part.core)
    return family is not None and family.partitioned


def reserve(part: Part, size: int, side: Side | None = None) -> Reservation:
    """The space for a bootloader of `size` bytes; on the family's usual side if none is given. Raises UsageFault if
    the part has no such space."""
    family = FAMILIES.get(part.core)
    if family is None or family.reserve is None:
        why = family.no_room if family else "where its memory lies is not known"
        raise usage("no-reserve", f"no space is planned on the {part.title}: {why}")
    if size <= 0 or size >= part.flash.size:
        raise usage(
            "reserve-size", f"{size:,} bytes of the {show_size(part.flash.size)} of the {part.title}", "--size SIZE"
        )
    return family.reserve(part, size, side)
