"""A recorded conversation with the bootstrap loader of an MSPM0, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.mspm0_slau887 import MESSAGES, Command
from ...quantities import count, show_bytes
from ..decoded import DecodedExchange


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per frame. A password is not shown."""
    rows = []
    for index, (sent, heard) in enumerate(exchanges):
        data = sent.lstrip(b"\x00")
        if len(data) < 8 or data[0] != 0x80 or not Command.known(data[3]):
            rows.append(DecodedExchange(index, 1, "", show_bytes(sent, 12)))
            continue
        command, rest = Command.of(data[3]), data[4:-4]
        place, detail = None, ""
        if command is Command.PROGRAM and len(rest) > 4:
            place = (int.from_bytes(rest[:4], "little"), len(rest) - 4)
            detail = f"{place[0]:08X}, {count(place[1], 'byte')}"
        elif command in (Command.ERASE_RANGE, Command.VERIFY, Command.READ) and len(rest) == 8:
            first, second = int.from_bytes(rest[:4], "little"), int.from_bytes(rest[4:], "little")
            detail = (
                f"{first:08X}-{second:08X}"
                if command is Command.ERASE_RANGE
                else f"{first:08X}, {count(second, 'byte')}"
            )
        if not heard:
            detail, place = f"{detail}; no answer".removeprefix("; "), None
        elif len(heard) > 5 and heard[4] == 0x3B and heard[5]:
            detail = f"{detail}; {MESSAGES.get(heard[5], show_bytes(heard, 8))}".removeprefix("; ")
            place = None
        rows.append(DecodedExchange(index, 1, command.words, detail, place))
    return rows
