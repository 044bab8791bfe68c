"""A recorded conversation in `pic-an1310`, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.pic_an1310 import Command
from ...dialects.pic_frames import STX, unstuffed
from ...quantities import count, show_bytes
from ..decoded import DecodedExchange


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per request."""
    rows = []
    for index, (sent, heard) in enumerate(exchanges):
        if not sent.strip(bytes([STX])):
            rows.append(DecodedExchange(index, 1, "auto-baud", "" if heard else "no answer"))
            continue
        data = unstuffed(sent)[:-2]
        if not data or not Command.known(data[0]):
            rows.append(DecodedExchange(index, 1, "", show_bytes(sent, 12)))
            continue
        detail, place = "", None
        if len(data) >= 5:
            address = int.from_bytes(data[1:5], "little")
            detail = f"{address:05X}"
            if data[0] in (Command.READ_FLASH, Command.READ_EEPROM):
                place = (address, int.from_bytes(data[5:7], "little"))
            elif data[0] == Command.WRITE_FLASH:
                place = (address, len(data) - 6)
            if place:
                detail += f", {count(place[1], 'byte')}"
            elif data[0] == Command.ERASE_FLASH and len(data) > 5:
                detail += f", {data[5]} blocks"
        if not heard and data[0] != Command.RUN:
            detail, place = f"{detail}; no answer".removeprefix("; "), None
        rows.append(DecodedExchange(index, 1, Command.of(data[0]).words, detail, place))
    return rows
