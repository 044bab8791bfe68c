"""Recorded conversations with the bootstrap loaders of MSP430, explained. No password is shown."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects import msp430_slau319, msp430_slau550
from ...quantities import count, show_bytes
from ..decoded import DecodedExchange


def narrate_slau319(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per frame, and what synchronised before it."""
    rows, before = [], 0
    for index, (sent, heard) in enumerate(exchanges):
        if sent == b"\x80" and heard[:1] == b"\x90" and index < len(exchanges) - 1:
            before += 1
            continue
        times, before = before + 1, 0
        if sent == b"\x80":
            rows.append(DecodedExchange(index, times, "synchronise", show_bytes(heard, 8) if heard else "no answer"))
            continue
        if len(sent) < 10 or sent[0] != 0x80 or not msp430_slau319.Command.known(sent[1]):
            rows.append(DecodedExchange(index, times, "", show_bytes(sent, 12)))
            continue
        command = msp430_slau319.Command.of(sent[1])
        address, length = int.from_bytes(sent[4:6], "little"), int.from_bytes(sent[6:8], "little")
        place, detail = None, ""
        if command in (command.WRITE, command.READ):
            place, detail = (address, length), f"{address:04X}, {count(length, 'byte')}"
        elif command is command.GO:
            detail = f"{address:04X}"
        if heard[:1] not in (b"\x90", b"\x80"):
            told = "refused" if heard[:1] == b"\xa0" else "no answer" if not heard else show_bytes(heard, 8)
            place, detail = None, f"{detail}; {told}".removeprefix("; ")
        rows.append(DecodedExchange(index, times, command.words, detail, place if command is command.WRITE else None))
    return rows


def narrate_slau550(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per frame."""
    rows = []
    for index, (sent, heard) in enumerate(exchanges):
        data = sent.lstrip(b"\x00")
        if len(data) < 6 or data[0] != 0x80 or not msp430_slau550.Command.known(data[3]):
            rows.append(DecodedExchange(index, 1, "", show_bytes(sent, 12)))
            continue
        command, rest = msp430_slau550.Command.of(data[3]), data[4:-2]
        place, detail = None, ""
        if command is command.WRITE and len(rest) > 3:
            place = (int.from_bytes(rest[:3], "little"), len(rest) - 3)
            detail = f"{place[0]:05X}, {count(place[1], 'byte')}"
        elif command in (command.READ, command.CRC) and len(rest) == 5:
            size = int.from_bytes(rest[3:], "little")
            detail = f"{int.from_bytes(rest[:3], 'little'):05X}, {count(size, 'byte')}"
        if not heard:
            detail, place = f"{detail}; no answer".removeprefix("; "), None
        elif len(heard) > 5 and heard[4] == 0x3B and heard[5]:
            told = msp430_slau550.MESSAGES.get(heard[5], show_bytes(heard, 8))
            detail, place = f"{detail}; {told}".removeprefix("; "), None
        rows.append(DecodedExchange(index, 1, command.words, detail, place))
    return rows
