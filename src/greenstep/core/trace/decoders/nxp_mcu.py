"""A recorded conversation with NXP's MCU bootloader, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.nxp_packets import COMMAND, DATA, PING, START, Answer, Command
from ...quantities import count, show_bytes
from ..decoded import DecodedExchange


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per frame."""
    rows, address = [], 0
    for index, (sent, heard) in enumerate(exchanges):
        data = sent.removeprefix(b"\x5a\xa1")
        said = Answer.of(data[6:]) if data[:2] == bytes([START, COMMAND]) else None
        place, detail = None, ""
        if said is not None and Command.known(said.tag):
            words, numbers = Command.of(said.tag).words, said.parameters
            if said.tag == Command.GET_PROPERTY and numbers:
                detail = f"{numbers[0]:02X}"
            elif len(numbers) > 1:
                detail, address = f"{numbers[0]:08X}, {count(numbers[1], 'byte')}", numbers[0]
        elif data[:2] == bytes([START, DATA]) and len(data) > 6:
            words, place = "data", (address, len(data) - 6)
            detail = f"{address:08X}, {count(len(data) - 6, 'byte')}"
            address += len(data) - 6
        elif data == bytes([START, PING]):
            words = "ping"
        else:
            words = "" if data or not sent else "acknowledge"
            detail = show_bytes(data or heard, 12)
        if words and not heard:
            detail, place = f"{detail}; no answer".removeprefix("; "), None
        rows.append(DecodedExchange(index, 1, words, detail, place))
    return rows
