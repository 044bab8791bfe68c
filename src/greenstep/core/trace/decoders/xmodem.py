"""A recorded conversation in `xmodem`, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.xmodem import ACK, CAN, EOT, LONG, NAK, SHORT, SOH, STX
from ...quantities import count, show_bytes
from ..decoded import DecodedExchange


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row per block."""
    rows = []
    for index, (sent, heard) in enumerate(exchanges):
        answer = {ACK: "", NAK: "; refused", CAN: "; cancelled"}.get(heard[:1][0] if heard else 0, "; no answer")
        if sent[:1] in (bytes([SOH]), bytes([STX])) and len(sent) > SHORT:
            size = SHORT if sent[0] == SOH else LONG
            rows.append(DecodedExchange(index, 1, "block", f"number {sent[1]}, {count(size, 'byte')}{answer}", None))
        elif sent == bytes([EOT]):
            rows.append(DecodedExchange(index, 1, "end of transfer", answer.removeprefix("; ")))
        else:
            rows.append(DecodedExchange(index, 1, "", show_bytes(sent, 12)))
    return rows
