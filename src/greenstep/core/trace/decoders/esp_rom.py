"""A recorded conversation in `esp-rom`, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.esp_rom import Command
from ...quantities import count, show_bytes
from ..decoded import DecodedExchange


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per request."""
    rows, address = [], 0
    for index, (sent, heard) in enumerate(exchanges):
        frame = sent.strip(b"\xc0").replace(b"\xdb\xdc", b"\xc0").replace(b"\xdb\xdd", b"\xdb")
        if len(frame) < 8 or frame[0] or not Command.known(frame[1]):
            rows.append(DecodedExchange(index, 1, "", show_bytes(sent, 12)))
            continue
        command, body = frame[1], frame[8:]
        word = [int.from_bytes(body[at : at + 4], "little") for at in range(0, min(len(body), 20), 4)]
        detail, place = "", None
        match command, word:
            case Command.FLASH_BEGIN | Command.DEFLATE_BEGIN, [size, number, _, address, *_]:
                detail = f"{address:06X}, {count(size, 'byte')} in {number} blocks"
            case Command.FLASH_DATA | Command.DEFLATE_DATA, [size, number, *_]:
                place, detail = (address, size), f"block {number}, {count(size, 'byte')}"
                address += size
            case Command.READ_REGISTER | Command.WRITE_REGISTER, [register, *_]:
                detail = f"{register:08X}"
            case Command.MD5, [start, size, *_]:
                detail = f"{start:06X}, {count(size, 'byte')}"
            case Command.CHANGE_BAUD, [baud, *_]:
                detail = f"{baud}"
        if not heard:
            detail, place = f"{detail}; no answer".removeprefix("; "), None
        rows.append(DecodedExchange(index, 1, Command.of(command).words, detail, place))
    return rows
