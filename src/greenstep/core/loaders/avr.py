"""The classic AVR's loader: UBRR0 at double speed, timer 1 for its patience (loaders/avr/doorstep.S)."""

from __future__ import annotations

import re

from ..chips.part import Part
from ..errors import usage
from ..quantities import show_engineering
from .images import LoaderImage
from .loader_values import Changed, LoaderValues, check_rate, common, patience, refuse_pin, with_bytes

_DIVIDERS = ((1, 1), (8, 2), (64, 3), (256, 4), (1024, 5))  # of timer 1, and CS12..10
_PORTS = "ABCDEFG"  # PINA is at 20 in the data space, each next one three farther
_DATA_SHEETS_ERROR = 0.015
"""ATmega328P data sheet, "Asynchronous Operational Range": recommended at double speed, 8 bits without parity."""
_BOOTSZ = {  # BOOTSZ1 and BOOTSZ0, and the fuse byte that they are in, for this loader's room
    "atmega168": ("01", "extended"),
    "atmega328p": ("10", "high"),
    "atmega644p": ("11", "high"),
    "atmega1284p": ("10", "high"),
    "atmega2560": ("10", "high"),
}


def changed(image: LoaderImage, part: Part, values: LoaderValues) -> Changed:
    """Raises UsageFault."""
    if values.clock is None:
        raise usage("loader-clock", "an AVR's clock is not known", "--clock 16M, or what its fuses and crystal make")
    if values.tx or values.rx:
        raise usage(
            "loader-pin", "an AVR's UART 0 is on fixed pins", f"{part.wires.tx} and {part.wires.rx}; leave them out"
        )
    clock = values.clock
    divisor = max(1, round(clock / 8 / values.baud))
    rate = check_rate(values.baud, clock / 8 / divisor, clock)
    select, ticks = patience(clock, values.wait_s, _DIVIDERS)
    register, bit = _pin(values.pin, part)
    facts = common(image.data[-image.facts :], part, clock, values.baud, round(clock / 8), values.wait_s)
    own = (divisor - 1).to_bytes(2, "big") + bytes([select, ticks, register, bit])
    size, fuse = _BOOTSZ[image.name]
    error = abs(clock / 8 / divisor / values.baud - 1)
    far = (
        f"; beyond the {_DATA_SHEETS_ERROR:.1%} that the data sheet allows at double speed"
        if error > _DATA_SHEETS_ERROR
        else ""
    )
    said = (
        ("rate", f"{rate}, 8N1, on {part.wires.tx} and {part.wires.rx}{far}"),
        (
            "clock",
            f"{show_engineering(clock, 'Hz')} at the core: the fuse CKDIV8, if programmed, divides it by eight",
        ),
        (
            "fuses",
            f"BOOTRST = 0, BOOTSZ1 = {size[0]}, BOOTSZ0 = {size[1]} ({fuse} byte): a reset begins at {image.at:X}",
        ),
        ("lock bits", "SPM must be allowed in the application (BLB0 mode 1); BLB1 mode 2 guards the loader"),
        ("linker", "nothing to change: the application begins at 0"),
    )
    return Changed(with_bytes(facts, {38: own}), said)


def _pin(name: str, part: Part) -> tuple[int, int]:
    """A PIN register's address in the data space, and the bit; both 0 for none."""
    if not name:
        return 0, 0
    match = re.fullmatch(r"P([A-G])([0-7])", name.upper())
    if match is None:
        raise refuse_pin(name, part.title, "PD4")
    return 0x20 + 3 * _PORTS.index(match[1]), 1 << int(match[2])
