"""A recorded conversation with SAM-BA, explained."""

from __future__ import annotations

import re
from collections.abc import Sequence

from ...quantities import count, show_bytes
from ..decoded import DecodedExchange

_COMMAND = re.compile(rb"#?([OoHhWwSRGNTV])([0-9A-Fa-f]*),?([0-9A-Fa-f]*)#C?$")
_WORDS = {
    "O": "write byte",
    "o": "read byte",
    "H": "write half-word",
    "h": "read half-word",
    "W": "write word",
    "w": "read word",
    "S": "send file",
    "R": "receive file",
    "G": "go",
    "N": "binary mode",
    "T": "terminal mode",
    "V": "version",
}


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per command; the blocks of a file are counted in one."""
    rows: list[DecodedExchange] = []
    blocks = 0
    for index, (sent, heard) in enumerate(exchanges):
        if len(sent) > 100 or sent in (b"C", b"\x06", b"\x04"):
            blocks += 1
            continue
        if blocks:
            rows.append(DecodedExchange(index - 1, blocks, "file", count(blocks, "exchange")))
            blocks = 0
        found = _COMMAND.search(sent)
        if found is None:
            rows.append(DecodedExchange(index, 1, "", show_bytes(sent, 12)))
            continue
        letter, first, second = (part.decode() for part in found.groups())
        detail = first
        if letter in "SR" and second:
            detail = f"{first}, {count(int(second, 16), 'byte')}"
        if letter == "w" and len(heard) == 4:
            detail = f"{first}: {int.from_bytes(heard, 'little'):08X}"
        elif not heard and letter in "whoNTV":
            detail = f"{detail}; no answer".removeprefix("; ")
        rows.append(DecodedExchange(index, 1, _WORDS[letter], detail))
    if blocks:
        rows.append(DecodedExchange(len(exchanges) - 1, blocks, "file", count(blocks, "exchange")))
    return rows
