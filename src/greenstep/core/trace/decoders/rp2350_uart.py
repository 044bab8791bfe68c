"""A recorded conversation with the UART boot of an RP2350, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.rp2350_uart import KNOCK, Command
from ...quantities import count, show_bytes
from ..decoded import DecodedExchange

_EACH = 33


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per exchange; writes and reads in a row are one."""
    rows = []
    for index, (sent, heard) in enumerate(exchanges):
        data = sent.removeprefix(KNOCK)
        if not data or not Command.known(data[0]):
            rows.append(
                DecodedExchange(
                    index, 1, "knock" if sent == KNOCK else "", "" if sent == KNOCK else show_bytes(sent, 12)
                )
            )
            continue
        command, detail = Command.of(data[0]), ""
        if command is Command.WRITE:
            detail = f"{count(len(data) // _EACH, 'block')} of 32 bytes"
        elif command is Command.READ:
            detail = f"{count(len(data), 'block')} of 32 bytes"
        if not heard and command is not Command.READ:
            detail = f"{detail}; no answer".removeprefix("; ")
        rows.append(DecodedExchange(index, 1, command.words, detail))
    return rows
