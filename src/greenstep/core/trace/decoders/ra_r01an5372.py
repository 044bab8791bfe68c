"""A recorded conversation with the boot firmware of an RA, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.ra_packets import STATUSES, Command
from ...quantities import count, show_bytes
from ..decoded import DecodedExchange


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per packet."""
    rows, address = [], 0
    for index, (sent, heard) in enumerate(exchanges):
        data = sent.lstrip(b"\x00")
        if len(data) < 6 or data[0] not in (0x01, 0x81) or not Command.known(data[3]):
            rows.append(DecodedExchange(index, 1, "", show_bytes(sent, 12)))
            continue
        command, rest = Command.of(data[3]), data[4:-2]
        place, detail = None, ""
        if data[0] == 0x81:
            place, detail = (address, len(rest)), f"{address:08X}, {count(len(rest), 'byte')}"
            address += len(rest)
        elif len(rest) == 8:
            address = int.from_bytes(rest[:4], "big")
            detail = f"{address:08X}-{rest[4:].hex().upper()}"
        elif command is Command.BAUD and len(rest) == 4:
            detail = f"{int.from_bytes(rest, 'big')} baud"
        if not heard:
            detail, place = f"{detail}; no answer".removeprefix("; "), None
        elif len(heard) > 4 and heard[3] & 0x80:
            detail = f"{detail}; {STATUSES.get(heard[4], show_bytes(heard, 8))}".removeprefix("; ")
            place = None
        rows.append(DecodedExchange(index, 1, command.words, detail, place))
    return rows
