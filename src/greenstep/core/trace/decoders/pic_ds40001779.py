"""A recorded conversation with Microchip's unified bootloader, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.pic_ds40001779 import STATUSES, Command
from ...quantities import count, show_bytes
from ..decoded import DecodedExchange

_HEAD_BYTES = 10


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per request."""
    rows = []
    for index, (sent, heard) in enumerate(exchanges):
        if len(sent) < _HEAD_BYTES or sent[0] != 0x55 or not Command.known(sent[1]):
            rows.append(DecodedExchange(index, 1, "", show_bytes(sent, 12)))
            continue
        command = Command.of(sent[1])
        length, address = int.from_bytes(sent[2:4], "little"), int.from_bytes(sent[6:10], "little")
        place, detail = None, f"{address:06X}, {count(length, 'byte')}"
        if command in (Command.VERSION, Command.RESET):
            detail = ""
        elif command is Command.ERASE_FLASH:
            detail = f"{address:06X}, {length} rows"
        elif command in (Command.WRITE_FLASH, Command.READ_FLASH):
            place = (address, length)
        if not heard:
            detail, place = f"{detail}; no answer".removeprefix("; "), None
        elif heard[:_HEAD_BYTES] != sent[:_HEAD_BYTES]:
            detail, place = f"{detail}; taken for {show_bytes(heard, 10)}".removeprefix("; "), None
        elif command in (Command.WRITE_FLASH, Command.ERASE_FLASH) and heard[-1] != 1:
            detail, place = f"{detail}; {STATUSES.get(heard[-1], show_bytes(heard[-1:]))}", None
        rows.append(DecodedExchange(index, 1, command.words, detail, place))
    return rows
