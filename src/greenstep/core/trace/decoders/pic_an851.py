"""A recorded conversation in `pic-an851`, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.pic_an851 import Command
from ...dialects.pic_frames import unstuffed
from ...quantities import count, show_bytes
from ..decoded import DecodedExchange


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per request."""
    rows = []
    for index, (sent, heard) in enumerate(exchanges):
        data = unstuffed(sent)[:-1]
        if len(data) < 2 or not Command.known(data[0]):
            rows.append(DecodedExchange(index, 1, "", show_bytes(sent, 12)))
            continue
        command, length = data[0], data[1]
        detail, place = "", None
        if not length:
            rows.append(DecodedExchange(index, 1, "reset"))
            continue
        if len(data) >= 5:
            address = int.from_bytes(data[2:5], "little")
            size = len(data) - 5 if command in (Command.WRITE_FLASH, Command.WRITE_EEPROM) else length
            place = (address, size) if command in (Command.READ_FLASH, Command.WRITE_FLASH) else None
            detail = (
                f"{address:05X}, {length} rows"
                if command == Command.ERASE_FLASH
                else f"{address:05X}, {count(size, 'byte')}"
            )
        if not heard:
            detail, place = f"{detail}; no answer".removeprefix("; "), None
        rows.append(DecodedExchange(index, 1, Command.of(command).words, detail, place))
    return rows
