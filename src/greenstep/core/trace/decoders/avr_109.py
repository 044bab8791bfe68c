"""A recorded conversation in `avr-109`, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.avr_109 import NAMES
from ...quantities import show_bytes, show_heard
from ..told import Narrated


def narrate(exchanges: Sequence[tuple[bytes, bytes]]) -> list[Narrated]:
    """One row per letter."""
    rows, address = [], 0
    for index, (sent, heard) in enumerate(exchanges):
        letter, detail, place = sent[:1], "", None
        if letter not in NAMES:
            rows.append(Narrated(index, 1, "", show_bytes(sent, 12)))
            continue
        if letter in (b"A", b"H"):
            address = 2 * int.from_bytes(sent[1:], "big")
            detail = f"{address:05X}"
        elif letter in (b"B", b"g") and len(sent) >= 4:
            size = int.from_bytes(sent[1:3], "big")
            place, detail = (address, size), f"{address:05X}, {size} bytes"
            address += size
        elif letter in (b"S", b"V"):
            detail = show_heard(heard)
        elif letter in (b"s", b"b"):
            detail = show_bytes(heard)
        if not heard and letter != b"\x1b":
            detail, place = f"{detail}; no answer".removeprefix("; "), None
        rows.append(Narrated(index, 1, NAMES[letter], detail, place))
    return rows
