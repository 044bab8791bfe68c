"""A recorded conversation in `avr-109`, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.avr_109 import Command
from ...quantities import count, show_bytes, show_heard
from ..decoded import DecodedExchange


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per letter."""
    rows, address = [], 0
    for index, (sent, heard) in enumerate(exchanges):
        detail, place = "", None
        if not sent or not Command.known(sent[0]):
            rows.append(DecodedExchange(index, 1, "", show_bytes(sent, 12)))
            continue
        command = Command.of(sent[0])
        if command in (Command.SET_ADDRESS, Command.SET_FAR_ADDRESS):
            address = 2 * int.from_bytes(sent[1:], "big")
            detail = f"{address:05X}"
        elif command in (Command.WRITE_BLOCK, Command.READ_BLOCK) and len(sent) >= 4:
            size = int.from_bytes(sent[1:3], "big")
            place, detail = (address, size), f"{address:05X}, {count(size, 'byte')}"
            address += size
        elif command in (Command.IDENTIFIER, Command.SOFTWARE_VERSION):
            detail = show_heard(heard)
        elif command in (Command.SIGNATURE, Command.BLOCK_MODE):
            detail = show_bytes(heard)
        if not heard and command is not Command.SYNCHRONISE:
            detail, place = f"{detail}; no answer".removeprefix("; "), None
        rows.append(DecodedExchange(index, 1, command.words, detail, place))
    return rows
