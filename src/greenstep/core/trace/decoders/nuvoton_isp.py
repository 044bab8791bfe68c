"""A recorded conversation with a NuMicro's ISP loader, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.nuvoton_isp import PACKET_BYTES, Command
from ...quantities import count, show_bytes
from ..decoded import DecodedExchange


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per packet."""
    rows, address, left = [], 0, 0
    for index, (sent, heard) in enumerate(exchanges):
        number = int.from_bytes(sent[:4], "little")
        if len(sent) != PACKET_BYTES or not Command.known(number):
            rows.append(DecodedExchange(index, 1, "", show_bytes(sent, 12)))
            continue
        command, place, detail = Command.of(number), None, ""
        if command is Command.UPDATE:
            address, left = (int.from_bytes(sent[at : at + 4], "little") for at in (8, 12))
        if command in (Command.UPDATE, Command.DATA):
            size = min(left, 48 if command is Command.UPDATE else 56)
            place, detail = (address, size), f"{address:08X}, {count(size, 'byte')}"
            address, left = address + size, left - size
        elif command is Command.DEVICE_ID and len(heard) >= 12:
            detail = heard[8:12][::-1].hex().upper()
        if not heard:
            detail, place = f"{detail}; no answer".removeprefix("; "), None
        elif int.from_bytes(heard[:2], "little") != sum(sent) & 0xFFFF:
            detail, place = f"{detail}; another sum".removeprefix("; "), None
        rows.append(DecodedExchange(index, 1, command.words, detail, place))
    return rows
