"""A recorded conversation with the serial bootloader of an nRF5 board, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.nrf5_dfu import RESULTS, Command
from ...quantities import count, show_bytes
from ..decoded import DecodedExchange

_KINDS = {1: "packet", 2: "program"}


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per exchange; writes, which are not answered, go with the command that follows them."""
    rows = []
    for index, (sent, heard) in enumerate(exchanges):
        frames = [_plain(frame) for frame in sent.split(b"\xc0") if frame]
        written = sum(len(frame) - 1 for frame in frames if frame[0] == Command.WRITE)
        last = next((frame for frame in reversed(frames) if frame[0] != Command.WRITE), b"")
        if not last or not Command.known(last[0]):
            words, detail = (Command.WRITE.words, count(written, "byte")) if written else ("", show_bytes(sent, 12))
            rows.append(DecodedExchange(index, 1, words, detail))
            continue
        command, detail = Command.of(last[0]), f"{count(written, 'byte')} before" if written else ""
        if command is Command.CREATE and len(last) == 6:
            detail = f"{_KINDS.get(last[1], 'unknown')}, {count(int.from_bytes(last[2:], 'little'), 'byte')}"
        elif command is Command.SELECT and len(last) == 2:
            detail = _KINDS.get(last[1], "unknown")
        told = _plain(heard.strip(b"\xc0").split(b"\xc0")[-1])
        if not heard:
            detail = f"{detail}; no answer"
        elif len(told) > 2 and told[2] != 1:
            detail = f"{detail}; {RESULTS.get(told[2], show_bytes(told, 8))}"
        rows.append(DecodedExchange(index, 1, command.words, detail.removeprefix("; ")))
    return rows


def _plain(frame: bytes) -> bytes:
    return frame.replace(b"\xdb\xdc", b"\xc0").replace(b"\xdb\xdd", b"\xdb")
