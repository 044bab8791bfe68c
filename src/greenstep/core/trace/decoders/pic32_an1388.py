"""A recorded conversation with a PIC32's bootloader, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.pic32_an1388 import DLE, EOT, SOH, Command
from ...quantities import count, show_bytes
from ..decoded import DecodedExchange


def _unstuffed(sent: bytes) -> bytes:
    """The data of a frame with its CRC; empty if it is none."""
    if sent[:1] != bytes([SOH]) or sent[-1:] != bytes([EOT]):
        return b""
    body, kept = bytearray(), False
    for byte in sent[1:-1]:
        if byte == DLE and not kept:
            kept = True
            continue
        body.append(byte)
        kept = False
    return bytes(body)


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per frame."""
    rows = []
    for index, (sent, heard) in enumerate(exchanges):
        data = _unstuffed(sent)
        if len(data) < 3 or not Command.known(data[0]):
            rows.append(DecodedExchange(index, 1, "", show_bytes(sent, 12)))
            continue
        command, rest = Command.of(data[0]), data[1:-2]
        place, detail = None, ""
        if command is Command.PROGRAM and len(rest) > 16:
            upper, lower = int.from_bytes(rest[4:6], "big"), int.from_bytes(rest[8:10], "big")
            place = (upper << 16 | lower, len(rest) - 7 - 5 * -(-(len(rest) - 7) // 133))
            detail = f"{place[0]:08X}, {count(place[1], 'byte')}"
        elif command is Command.CRC and len(rest) == 8:
            detail = f"{int.from_bytes(rest[:4], 'little'):08X}, {count(int.from_bytes(rest[4:], 'little'), 'byte')}"
        if not heard and command is not Command.JUMP:
            detail, place = f"{detail}; no answer".removeprefix("; "), None
        rows.append(DecodedExchange(index, 1, command.words, detail, place))
    return rows
