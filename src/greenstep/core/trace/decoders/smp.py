"""A recorded conversation in SMP, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.smp_exchange import Collector, Command, Packet
from ...quantities import count
from ..decoded import DecodedExchange


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per packet: what was asked, and what the answer says."""
    from ...dialects.smp_exchange import decoded

    rows = []
    for index, (sent, heard) in enumerate(exchanges):
        asked, told = _packet_in(sent), _packet_in(heard)
        if asked is None or not Command.known(asked.command):
            rows.append(DecodedExchange(index, 1, "", count(len(sent), "byte") if sent else "text"))
            continue
        values = decoded(asked.body) or {}
        place, detail = None, ""
        data, off = values.get("data"), values.get("off")
        if isinstance(data, bytes) and isinstance(off, int):
            place, detail = (off, len(data)), f"{off:08X}, {count(len(data), 'byte')}"
        answer = None if told is None else decoded(told.body)
        if answer is None:
            detail, place = f"{detail}; no answer".removeprefix("; "), None
        elif answer.get("rc"):
            detail, place = f"{detail}; rc {answer['rc']}".removeprefix("; "), None
        rows.append(DecodedExchange(index, 1, Command.of(asked.command).words, detail, place))
    return rows


def _packet_in(data: bytes) -> Packet | None:
    """The first whole packet in what was sent or heard."""
    lines = Collector()
    return next((packet for line in data.split(b"\n") if (packet := lines.take(line)) is not None), None)
