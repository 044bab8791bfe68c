"""Recorded conversations with Propellers, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.propeller_1 import HANDSHAKE, TEMPLATE
from ...dialects.propeller_2 import CHECK, TEXT
from ...quantities import count, show_bytes, show_heard
from ..decoded import DecodedExchange

_CHARACTERS = 11


def narrate_1(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per exchange."""
    rows = []
    for index, (sent, heard) in enumerate(exchanges):
        data = sent.rstrip(bytes([TEMPLATE]))
        if sent.startswith(HANDSHAKE[:251]):
            rows.append(
                DecodedExchange(index, 1, "handshake", f"{count(len(heard), 'bit')} back" if heard else "no answer")
            )
        elif len(data) >= _CHARACTERS:
            told = f"; told {show_bytes(heard, 4)}" if heard else ""
            rows.append(DecodedExchange(index, 1, "load", f"{count(len(data) // _CHARACTERS, 'long')}{told}"))
        elif not data:
            rows.append(
                DecodedExchange(index, 1, "room for an answer", show_bytes(heard, 4) if heard else "none yet")
            )
        else:
            rows.append(DecodedExchange(index, 1, "", show_bytes(sent, 12)))
    return rows


def narrate_2(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per exchange."""
    rows = []
    for index, (sent, heard) in enumerate(exchanges):
        told = show_heard(heard[:40]) if heard else "no answer"
        if sent.startswith(CHECK):
            rows.append(DecodedExchange(index, 1, "check", told))
        elif sent.startswith((TEXT, b">")):
            rows.append(DecodedExchange(index, 1, "load", f"{count(len(sent), 'character')}; {told}"))
        else:
            rows.append(DecodedExchange(index, 1, "", show_bytes(sent, 12)))
    return rows
