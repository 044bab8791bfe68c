"""A recorded conversation in `stm32-rom`, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.stm32_rom import ACK, SYNC, Command
from ...quantities import count, show_bytes
from ..decoded import DecodedExchange

_FRAMES: dict[int, int] = {
    Command.READ: 2,
    Command.WRITE: 2,
    Command.GO: 1,
    Command.CHECKSUM: 4,
    Command.ERASE: 1,
    Command.EXTENDED_ERASE: 1,
    Command.WRITE_PROTECT: 1,
}
"""How many frames follow a command's code."""


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per command: its code, address and data are exchanges of the same row."""
    rows: list[DecodedExchange] = []
    index = 0
    while index < len(exchanges):
        sent, heard = exchanges[index]
        if sent and not sent.strip(bytes([SYNC])):
            rows.append(DecodedExchange(index, 1, "sync", show_bytes(heard, 4) if heard else "no answer"))
            index += 1
            continue
        if len(sent) < 2 or sent[0] ^ sent[1] != 0xFF or not Command.known(sent[0]):
            rows.append(DecodedExchange(index, 1, "", f"{show_bytes(sent, 8)} {show_bytes(heard, 8)}".strip()))
            index += 1
            continue
        row = _narrated_command(exchanges, index)
        rows.append(row)
        index += row.count
    return rows


def _narrated_command(exchanges: Sequence[tuple[bytes, bytes]], first: int) -> DecodedExchange:
    """The row of the command whose code is sent in exchange `first`."""
    sent, heard = exchanges[first]
    code, name = sent[0], Command.of(sent[0]).words
    if not heard or heard[0] != ACK:
        return DecodedExchange(first, 1, name, f"refused, {show_bytes(heard, 4)}" if heard else "no answer")
    parts = exchanges[first + 1 : first + 1 + _FRAMES.get(code, 0)]
    count_ = 1 + len(parts)
    if code in (Command.READ, Command.WRITE, Command.GO) and parts and len(parts[0][0]) == 5:
        address = int.from_bytes(parts[0][0][:4], "big")
        refused = next((answer for _, answer in parts if answer[:1] != bytes([ACK])), None)
        size = parts[1][0][0] + 1 if len(parts) > 1 and parts[1][0] else 0
        detail = f"{address:08X}" + (f", {count(size, 'byte')}" if size else "")
        if refused is not None:
            return DecodedExchange(first, count_, name, f"{detail}; answered {show_bytes(refused, 4) or 'nothing'}")
        return DecodedExchange(first, count_, name, detail, (address, size) if size else None)
    if code in (Command.ERASE, Command.EXTENDED_ERASE) and parts:
        order = parts[0][0]
        width = 1 if code == Command.ERASE else 2
        number = int.from_bytes(order[:width], "big")
        special = number == 0xFF if width == 1 else number >= 0xFFF0
        done = "" if parts[0][1][:1] == bytes([ACK]) else f"; answered {show_bytes(parts[0][1], 4) or 'nothing'}"
        return DecodedExchange(first, count_, name, ("everything" if special else count(number + 1, "unit")) + done)
    return DecodedExchange(first, count_, name, show_bytes(heard[1:-1], 16))
