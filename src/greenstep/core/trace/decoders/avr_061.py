"""A recorded conversation in `avr-061`, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.avr_061 import IN_SYNC, OK, Command
from ...quantities import count, show_bytes, show_heard
from ..decoded import DecodedExchange


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per command."""
    rows = []
    address = 0
    for index, (sent, heard) in enumerate(exchanges):
        command, detail, place = "", show_bytes(sent, 12), None
        good = heard.endswith(bytes([OK]))
        if sent[:1] == bytes([Command.LOAD_ADDRESS]) and len(sent) >= 4:
            address = 2 * int.from_bytes(sent[1:3], "little")
            command, detail = "load address", f"{address:04X}"
            sent = sent[4:] or sent
        if sent[:1] in (bytes([Command.PROGRAM_PAGE]), bytes([Command.READ_PAGE])) and len(sent) >= 5:
            size, memory = int.from_bytes(sent[1:3], "big"), sent[3:4].decode("latin-1")
            verb = "write page" if sent[0] == Command.PROGRAM_PAGE else "read page"
            command, place = f"{verb} ({'EEPROM' if memory == 'E' else 'flash'})", (address, size)
            detail = f"{address:04X}, {count(size, 'byte')}"
        elif sent[:1] and Command.known(sent[0]) and command != "load address":
            command = Command.of(sent[0]).words
            plain = heard[:2] == bytes([IN_SYNC, OK])
            detail = f"then {show_heard(heard[2:])}" if plain and len(heard) > 2 else ""
            detail = show_bytes(heard[1:-1]) if len(heard) > 2 and not plain and good else detail
            good = good or plain
        if command and not good:
            detail += f"; answered {show_bytes(heard, 6)}" if heard else "; no answer"
        rows.append(DecodedExchange(index, 1, command, detail.removeprefix("; "), place if good else None))
    return rows
