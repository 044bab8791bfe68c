"""A recorded conversation with a serial loader of TI, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.ti_packets import STATUSES, SYNC, Command
from ...quantities import count, show_bytes
from ..decoded import DecodedExchange


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per packet."""
    rows, address = [], 0
    for index, (sent, heard) in enumerate(exchanges):
        data = sent.removeprefix(b"\x00\xcc")
        if len(data) < 3 or not Command.known(data[2]) or data[0] != len(data):
            text = "measure the rate" if data == SYNC else "acknowledge" if sent and not data else ""
            rows.append(DecodedExchange(index, 1, text, show_bytes(heard if text else sent, 12)))
            continue
        command, rest = Command.of(data[2]), data[3:]
        place, detail = None, ""
        numbers = [int.from_bytes(rest[at : at + 4], "big") for at in range(0, len(rest) // 4 * 4, 4)]
        if command is Command.SEND_DATA:
            place, detail = (address, len(rest)), f"{address:08X}, {count(len(rest), 'byte')}"
            address += len(rest)
        elif command in (Command.DOWNLOAD, Command.ERASE, Command.READ, Command.CRC32) and numbers:
            size = f", {count(numbers[1], 'byte')}" if len(numbers) > 1 else ""
            detail = f"{numbers[0]:08X}{size}"
            address = numbers[0] if command is Command.DOWNLOAD else address
        elif command is Command.STATUS and len(heard) >= 3:
            detail = STATUSES.get(heard[-1], show_bytes(heard))
        if not heard:
            detail, place = f"{detail}; no answer".removeprefix("; "), None
        elif heard[:2] == b"\x00\x33":
            detail, place = f"{detail}; refused".removeprefix("; "), None
        rows.append(DecodedExchange(index, 1, command.words, detail, place))
    return rows
