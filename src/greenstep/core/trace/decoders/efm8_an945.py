"""A recorded conversation with the bootloader of an EFM8, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.efm8_an945 import ANSWERS, Command
from ...quantities import count, show_bytes
from ..decoded import DecodedExchange


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per record."""
    rows = []
    for index, (sent, heard) in enumerate(exchanges):
        data = sent.lstrip(b"\xff")
        if len(data) < 3 or data[:1] != b"$" or not Command.known(data[2]):
            rows.append(DecodedExchange(index, 1, "", show_bytes(sent, 12)))
            continue
        command, rest = Command.of(data[2]), data[3:]
        place, detail = None, ""
        if command in (Command.ERASE, Command.WRITE, Command.VERIFY) and len(rest) >= 2:
            address = int.from_bytes(rest[:2], "big")
            detail = f"{address:04X}"
            if command is Command.WRITE:
                place, detail = (address, len(rest) - 2), f"{detail}, {count(len(rest) - 2, 'byte')}"
            elif command is Command.VERIFY:
                detail = f"{detail}-{rest[2:4].hex().upper()}"
        elif rest:
            detail = rest.hex().upper()
        if not heard:
            detail, place = f"{detail}; no answer".removeprefix("; "), None
        elif heard[0] != 0x40:
            detail = f"{detail}; {ANSWERS.get(heard[0], show_bytes(heard, 4))}".removeprefix("; ")
            place = None
        rows.append(DecodedExchange(index, 1, command.words, detail, place))
    return rows
