"""The PIC18 K22's loader: EUSART 1 with 16 bits of divisor, timer 0 for its patience (loaders/pic18/doorstep.asm)."""

from __future__ import annotations

import re

from ..chips.part import Part
from ..errors import usage
from ..quantities import show_address
from .images import LoaderImage
from .loader_values import Changed, LoaderValues, check_rate, common, half, patience, refuse_pin, with_bytes

_INTERNAL, _LOOP = 0x70, 0x40  # OSCCON: 16 MHz if FOSC has the internal oscillator; OSCTUNE: four times that
_MOST_DIVISOR = 32768
_DIVIDERS = [(4 * 2 << select, 0x80 | select) for select in range(8)]  # of timer 0, and T0CON


def changed(image: LoaderImage, part: Part, values: LoaderValues) -> Changed:
    """Raises UsageFault."""
    if values.clock is None:
        raise usage("loader-clock", "a PIC18's clock is not known", "--clock 16M, or what its oscillator makes")
    if values.tx or values.rx:
        raise usage("loader-pin", "a PIC18's EUSART 1 is on fixed pins", "RC6 and RC7; leave them out")
    clock = values.clock
    divisor = max(1, round(clock / 4 / values.baud))
    rate = check_rate(values.baud, clock / 4 / divisor, clock)
    control, ticks = patience(clock, values.wait_s, _DIVIDERS)
    port, bit = _pin(values.pin, part)
    loop = _LOOP if clock > 16e6 else 0
    facts = common(image.data[-image.facts :], part, clock, values.baud, round(clock / 4), values.wait_s)
    facts = with_bytes(facts, {34: half(_MOST_DIVISOR)})
    own = bytes([_INTERNAL, loop]) + half(part.flash.usable.end) + half(divisor - 1)
    own += bytes([control, ticks, port, bit])
    begin = part.flash.usable_start
    said = (
        ("rate", f"{rate}, 8N1, on RC6 (TX) and RC7 (RX)"),
        ("config", f"FOSC for {clock / 1e6:g} MHz ({_by_itself(clock)}); XINST off; WRTB on guards the loader"),
        (
            "linker",
            f"code offset 0x{begin:X}: vectors at {show_address(begin)}, {begin + 8:04X} and {begin + 0x18:04X}",
        ),
        ("vectors", "the loader passes interrupts on to the application's"),
    )
    return Changed(with_bytes(facts, {38: own}), said)


def _by_itself(clock: float) -> str:
    return {16e6: "the internal oscillator makes it", 64e6: "the internal one makes it, PLL off in the words"}.get(
        clock, "a crystal, or what the words make of it"
    )


def _pin(name: str, part: Part) -> tuple[int, int]:
    """The low byte of a PORT register's address, and the bit; both 0 for none."""
    if not name:
        return 0, 0
    match = re.fullmatch(r"R([A-E])([0-7])", name.upper())
    if match is None:
        raise refuse_pin(name, part.title, "RB4, with a resistor to the supply")
    return 0x80 + "ABCDE".index(match[1]), 1 << int(match[2])
