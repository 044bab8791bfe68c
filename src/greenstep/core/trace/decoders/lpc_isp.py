"""A recorded conversation in `lpc-isp`, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.lpc_isp import Command
from ...quantities import count, show_bytes, show_heard
from ..decoded import DecodedExchange


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per command; data is counted."""
    rows = []
    for index, (sent, heard) in enumerate(exchanges):
        words = sent.split()
        if len(sent) < 48 and words and (words[0] == b"?" or (len(words[0]) == 1 and Command.known(words[0][0]))):
            name = "synchronise" if words[0] == b"?" else Command.of(words[0][0]).words
            code = heard.strip().split(b"\r\n")[0] if heard.strip() else b"no answer"
            told = "" if code == b"0" else f"; answered {show_heard(code)}" if heard.strip() else "; no answer"
            detail = " ".join(word.decode("latin-1") for word in words[1:]) + told
            rows.append(DecodedExchange(index, 1, name, detail.removeprefix("; ")))
        elif len(sent) >= 48:
            rows.append(DecodedExchange(index, 1, "data", count(len(sent), "character")))
        else:
            rows.append(DecodedExchange(index, 1, "", show_bytes(sent, 12)))
    return rows
