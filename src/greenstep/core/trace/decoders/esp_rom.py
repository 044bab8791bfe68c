"""A recorded conversation in `esp-rom`, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.esp_rom import Command
from ...quantities import show_bytes
from ..told import Narrated


def narrate(exchanges: Sequence[tuple[bytes, bytes]]) -> list[Narrated]:
    """One row per request."""
    rows, address = [], 0
    for index, (sent, heard) in enumerate(exchanges):
        frame = sent.strip(b"\xc0").replace(b"\xdb\xdc", b"\xc0").replace(b"\xdb\xdd", b"\xdb")
        if len(frame) < 8 or frame[0] or not Command.known(frame[1]):
            rows.append(Narrated(index, 1, "", show_bytes(sent, 12)))
            continue
        command, body = frame[1], frame[8:]
        word = [int.from_bytes(body[at : at + 4], "little") for at in range(0, min(len(body), 20), 4)]
        detail, place = "", None
        if command in (Command.FLASH_BEGIN, Command.DEFLATE_BEGIN) and len(word) >= 4:
            address, detail = word[3], f"{word[3]:06X}, {word[0]:,} bytes in {word[1]} blocks"
        elif command in (Command.FLASH_DATA, Command.DEFLATE_DATA) and word:
            place, detail = (address, word[0]), f"block {word[1]}, {word[0]} bytes"
            address += word[0]
        elif command in (Command.READ_REGISTER, Command.WRITE_REGISTER) and word:
            detail = f"{word[0]:08X}"
        elif command in (Command.MD5, Command.CHANGE_BAUD) and word:
            detail = f"{word[0]:06X}, {word[1]:,} bytes" if command == Command.MD5 else f"{word[0]}"
        if not heard:
            detail, place = f"{detail}; no answer".removeprefix("; "), None
        rows.append(Narrated(index, 1, Command.of(command).words, detail, place))
    return rows
