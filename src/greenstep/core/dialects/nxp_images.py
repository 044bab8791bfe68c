"""What an image for a Kinetis may lock: its flash configuration field (reference manuals, "Flash Configuration Field
Description")."""

from __future__ import annotations

from ..chips import Part
from ..errors import RefusedFault
from ..image import Image
from ..quantities import show_address

_FSEC, _FOPT = 0x0C, 0x0D


def allowed_to_lock(part: Part, image: Image, place: int, even_if: frozenset[str]) -> tuple[str, ...]:
    """What the flash configuration field would do, in words. Raises RefusedFault unless that is allowed, and allowed
    twice if it is for good.

    Byte C, FSEC: bits 1:0 are 10 if the chip is not secure; bits 5:4 are 10 if everything may no longer be erased.
    Byte D, FOPT: bits 7:6 are 00 to start from flash, bit 1 is 1 to ignore the pin that would start the ROM.
    A blank field secures the chip too.
    """
    units = part.flash.units_touched(place, 16)
    if not any(image.touches(unit.address, unit.size) for unit in units) or image.end > part.flash.end:
        return ()
    field = image.cut(place, 16, part.flash.erased)
    secure, no_mass_erase = field[_FSEC] & 3 != 2, field[_FSEC] >> 4 & 3 == 2
    shut = field[_FOPT] >> 6 == 0 and bool(field[_FOPT] & 2)
    if not secure and not shut:
        return ()
    for_good = shut or no_mass_erase
    wanted = {"protection", "lock-out"} if for_good else {"protection"}
    what = "secure, and never again to be erased" if no_mass_erase and secure else "secure" if secure else ""
    what = what or "without its ROM bootloader"
    if wanted <= even_if:
        return (f"the image makes the chip {what}: written anyway",)
    blank = "" if image.covers(place, 16) else ", because the image has nothing there and blank is secure"
    said = " ".join(f"--even-if {word}" for word in sorted(wanted, reverse=True))
    raise RefusedFault.of(
        "would-lock",
        f"{image.name} would {'lock you out for good' if for_good else 'lock the chip'}: it would be {what}",
        (
            f"the flash configuration field at {show_address(place)} is {field.hex(' ').upper()}{blank}",
            f"FSEC is {field[_FSEC]:02X}, FOPT is {field[_FOPT]:02X}",
        ),
        ("give it the field that startup files have: FSEC FE, FOPT 3D", f"if you mean it: {said}"),
    )
