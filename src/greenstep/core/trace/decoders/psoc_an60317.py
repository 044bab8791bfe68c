"""A recorded conversation with the bootloader of a PSoC, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.psoc_an60317 import STATUSES, Command
from ...quantities import count, show_bytes
from ..decoded import DecodedExchange


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per packet."""
    rows = []
    for index, (sent, heard) in enumerate(exchanges):
        data = sent.lstrip(b"\x00")
        if len(data) < 7 or data[0] != 0x01 or not Command.known(data[1]):
            rows.append(DecodedExchange(index, 1, "", show_bytes(sent, 12)))
            continue
        command, rest, detail = Command.of(data[1]), data[4:-3], ""
        if command in (Command.PROGRAM_ROW, Command.VERIFY_ROW) and len(rest) >= 3:
            detail = f"array {rest[0]}, row {int.from_bytes(rest[1:3], 'little')}"
        elif command is Command.SEND_DATA:
            detail = count(len(rest), "byte")
        if command not in (Command.SYNC, Command.EXIT):
            status = heard[1] if len(heard) > 1 and heard[0] == 0x01 else -1
            told = "" if status == 0 else STATUSES.get(status, "no answer" if not heard else show_bytes(heard, 8))
            detail = f"{detail}; {told}".removeprefix("; ").removesuffix("; ")
        rows.append(DecodedExchange(index, 1, command.words, detail))
    return rows
