"""The SAM D21's loader: a SERCOM, found by the pins (DS40001882, table 7-1), from the 8 MHz oscillator
(loaders/samd21/port.h)."""

from __future__ import annotations

import re

from ..chips.part import Part
from ..errors import usage
from ..quantities import show_address
from .images import LoaderImage
from .loader_values import Changed, LoaderValues, check_rate, common, half, refuse_pin, with_bytes, word

_CLOCK = 8_000_000
_TICK_S = 0.01
_SERCOM_0, _EACH = 0x42000800, 0x400
_LOW_BIT_FIRST, _OWN_CLOCK = 1 << 30, 1 << 2


def _runs(text: str) -> dict[str, tuple[int, int]]:
    """Pins and what they are: `PA08:0` begins four pins that are pads 0 to 3 of SERCOM 0; with `/`, pads 2 on."""
    found = {}
    for word_ in text.split():
        pin, _, number = word_.partition(":")
        first, count = (2, 2) if number.endswith("/") else (0, 2 if number.endswith("-") else 4)
        for at in range(count):
            found[f"{pin[:2]}{int(pin[2:]) + at:02}"] = (int(number[0]), first + at)
    return found


_FUNCTIONS = {
    2: _runs("PA08:0 PA12:2 PA16:1 PA20:5/ PA22:3 PB12:4 PB16:5-"),
    3: _runs("PA00:1- PA04:0 PA08:2 PA12:4 PA16:3 PA20:3/ PA22:5 PA30:1/ PB02:5- PB08:4 PB22:5/ PB30:5-"),
}
"""Peripheral functions C and D: pins, with SERCOM and pad."""


def changed(image: LoaderImage, part: Part, values: LoaderValues) -> Changed:
    """Raises UsageFault."""
    tx, rx = (values.tx or "PA10").upper(), (values.rx or "PA11").upper()
    function, sercom, tx_pad, rx_pad = _line(tx, rx, part)
    baud = round(65536 * (1 - 16 * values.baud / _CLOCK))
    if not 0 < baud < 65536:
        raise usage("loader-rate", f"8 MHz makes no {values.baud} baud", f"at most {_CLOCK // 16}")
    rate = check_rate(values.baud, _CLOCK / 16 * (1 - baud / 65536), _CLOCK)
    facts = common(image.data[-image.facts :], part, _CLOCK, values.baud, _CLOCK, values.wait_s)
    control = _LOW_BIT_FIRST | _OWN_CLOCK | rx_pad << 20 | (tx_pad // 2) << 16
    own = half(round(values.wait_s / _TICK_S)) + word(baud)
    own += bytes([_number(tx, part), _number(rx, part), _number(values.pin, part), function])
    own += word(_SERCOM_0 + sercom * _EACH) + word(control)
    said = (
        ("rate", f"{rate}, 8N1; TX is {tx}, RX is {rx} (SERCOM{sercom})"),
        ("fuses", "BOOTPROT = 4 guards the first 2 KiB; the loader runs with any"),
        ("linker", f"FLASH origin {show_address(part.flash.usable_start)}, length 0x{part.flash.usable.size:X}"),
    )
    return Changed(with_bytes(facts, {38: own}), said)


def _line(tx: str, rx: str, part: Part) -> tuple[int, int, int, int]:
    """Function, SERCOM, pad of TX (0 or 2) and of RX. Raises UsageFault."""
    for function, pins in _FUNCTIONS.items():
        if tx in pins and rx in pins:
            (one, tx_pad), (other, rx_pad) = pins[tx], pins[rx]
            if one == other and tx_pad in (0, 2) and rx_pad != tx_pad:
                return function, one, tx_pad, rx_pad
    raise usage(
        "loader-pin", f"no SERCOM of the {part.title} has TX on {tx} and RX on {rx}",
        "TX is pad 0 or 2 of a SERCOM, RX another of the same: PA10 and PA11",
    )  # fmt: skip


def _number(name: str, part: Part) -> int:
    """32 times the group, plus the number; 255 for none."""
    if not name:
        return 255
    match = re.fullmatch(r"P([AB])([0-9]{1,2})", name.upper())
    if match is None or int(match[2]) > 31:
        raise refuse_pin(name, part.title, "PA15")
    return 32 * "AB".index(match[1]) + int(match[2])
