"""A recorded conversation in `avr-068`, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.avr_068 import FAR, HEAD, OK, START, Command
from ...quantities import count, show_bytes
from ..decoded import DecodedExchange


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per message."""
    rows, address = [], 0
    for index, (sent, heard) in enumerate(exchanges):
        body = sent[HEAD:-1]
        if sent[:1] != bytes([START]) or not body or not Command.known(body[0]):
            rows.append(DecodedExchange(index, 1, "", show_bytes(sent, 12)))
            continue
        good = heard[HEAD : HEAD + 2] == bytes([body[0], OK])
        detail, place = "", None
        if body[0] == Command.LOAD_ADDRESS:
            words = int.from_bytes(body[1:5], "big") & ~FAR
            address, detail = 2 * words, f"{2 * words:05X}"
        elif body[0] in (Command.PROGRAM_FLASH, Command.READ_FLASH, Command.PROGRAM_EEPROM, Command.READ_EEPROM):
            size = int.from_bytes(body[1:3], "big")
            place, detail = (address, size), f"{address:05X}, {count(size, 'byte')}"
            address += size
        elif good:
            detail = show_bytes(heard[HEAD + 2 : -1], 12)
        if not good:
            detail += f"; answered {show_bytes(heard, 8)}" if heard else "; no answer"
        rows.append(
            DecodedExchange(index, 1, Command.of(body[0]).words, detail.removeprefix("; "), place if good else None)
        )
    return rows
