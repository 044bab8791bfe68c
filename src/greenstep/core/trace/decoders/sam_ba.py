"""A recorded conversation with SAM-BA, explained."""

from __future__ import annotations

import re
from collections.abc import Sequence

from ...quantities import count, show_bytes
from ..told import Narrated

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


def narrate(exchanges: Sequence[tuple[bytes, bytes]]) -> list[Narrated]:
    """One row per command; the blocks of a file are counted in one."""
    rows: list[Narrated] = []
    blocks = 0
    for index, (sent, heard) in enumerate(exchanges):
        if len(sent) > 100 or sent in (b"C", b"\x06", b"\x04"):
            blocks += 1
            continue
        if blocks:
            rows.append(Narrated(index - 1, blocks, "file", count(blocks, "exchange")))
            blocks = 0
        found = _COMMAND.search(sent)
        if found is None:
            rows.append(Narrated(index, 1, "", show_bytes(sent, 12)))
            continue
        letter, first, second = (part.decode() for part in found.groups())
        detail = first
        if letter in "SR" and second:
            detail = f"{first}, {count(int(second, 16), 'byte')}"
        if letter == "w" and len(heard) == 4:
            detail = f"{first}: {int.from_bytes(heard, 'little'):08X}"
        elif not heard and letter in "whoNTV":
            detail = f"{detail}; no answer".removeprefix("; ")
        rows.append(Narrated(index, 1, _WORDS[letter], detail))
    if blocks:
        rows.append(Narrated(len(exchanges) - 1, blocks, "file", count(blocks, "exchange")))
    return rows
