"""The nRF5x's loader: any pins of port 0; the BAUDRATE register is a fraction of 16 MHz (loaders/nrf5/port.h)."""

from __future__ import annotations

import re

from ..chips.part import Part
from ..quantities import show_address, show_size
from .images import LoaderImage
from .loader_values import Changed, LoaderValues, check_rate, common, half, refuse_pin, with_bytes, word

_BASE = 16_000_000
_TICK_S = 0.01


def changed(image: LoaderImage, part: Part, values: LoaderValues) -> Changed:
    """Raises UsageFault."""
    setting = (round(values.baud * (1 << 32) / _BASE) + 0x800) & ~0xFFF
    rate = check_rate(values.baud, setting * _BASE / (1 << 32), _BASE)
    tx, rx, way = (_pin(name, part) for name in (values.tx or "P0.24", values.rx or "P0.25", values.pin))
    clock = 16e6 if part.name.startswith("nrf51") else 64e6
    facts = common(image.data[-image.facts :], part, clock, values.baud, _BASE, values.wait_s)
    own = half(round(values.wait_s / _TICK_S)) + word(setting) + bytes([tx, rx, way])
    room = part.flash
    said = [
        ("rate", f"{rate}, 8N1; TX is P0.{tx:02}, RX is P0.{rx:02}"),
        ("protect", f"the first {show_size(image.room)} may be protected: the loader never writes them"),
        ("linker", f"FLASH origin {show_address(room.usable_start)}, length 0x{room.usable.size:X}"),
    ]
    if part.name.startswith("nrf51"):
        said.append(("vectors", "nothing to do: the loader passes each exception on to the application's"))
    return Changed(with_bytes(facts, {38: own}), tuple(said))


def _pin(name: str, part: Part) -> int:
    """The number of a pin of port 0; 255 for none."""
    if not name:
        return 255
    match = re.fullmatch(r"P0[._]?([0-9]{1,2})", name.upper())
    if match is None or int(match[1]) > 31:
        raise refuse_pin(name, part.title, "P0.24")
    return int(match[1])
