"""A recording explained: lines moved, commands asked and answered, similar ones joined."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from ..dialects.dialect import Dialect
from ..frozen import frozen
from ..quantities import count, readable_share, show_bytes, show_heard
from .decoding import DecodedExchange, decode_exchanges
from .exchanges import Exchange
from .recording import Trace

_TALK_SHARE = 0.95
_SHORTEST_TEXT = 4


@frozen
class TraceRow:
    """One row: from `at_s` for `took_s`, `times` similar commands; `waited_s` is how long their answers took."""

    at_s: float
    took_s: float
    what: str
    detail: str
    times: int = 1
    waited_s: float = 0.0
    place: tuple[int, int] | None = None


def explain_trace(
    trace: Trace, exchanges: Sequence[Exchange], dialect: type[Dialect] | None, joined: bool = True
) -> list[TraceRow]:
    """All rows in time order. `joined`: commands that follow each other from address to address share a row."""
    narrated = (
        decode_exchanges(dialect, [(exchange.sent, exchange.heard) for exchange in exchanges])
        if dialect is not None
        else [DecodedExchange(index, 1, "", _plain(exchange)) for index, exchange in enumerate(exchanges)]
    )
    rows = [_row(exchanges, row) for row in narrated]
    if joined:
        rows = _joined(rows)
    return sorted([*rows, *_line_rows(trace)], key=lambda row: row.at_s)


def _plain(exchange: Exchange) -> str:
    return ", ".join(
        f"{way} {_shown(data)}" for way, data in (("sent", exchange.sent), ("heard", exchange.heard)) if data
    )


def _shown(data: bytes) -> str:
    """One or two bytes are not text, even if they are letters."""
    return show_heard(data) if len(data) >= _SHORTEST_TEXT else show_bytes(data)


def _row(exchanges: Sequence[Exchange], row: DecodedExchange) -> TraceRow:
    covered = exchanges[row.first : row.first + row.count]
    first, last = covered[0], covered[-1]
    if not first.sent:
        return TraceRow(first.at_s, last.end_s - first.at_s, "heard", show_heard(first.heard))
    waited = sum(exchange.wait_s or 0.0 for exchange in covered)
    took_s = last.end_s - first.at_s
    if not row.command:  # a program's text, or something the dialect does not know
        what = "talk" if readable_share(first.sent + first.heard) > _TALK_SHARE else "unknown"
        return TraceRow(first.at_s, took_s, what, _plain(first), 1, waited)
    return TraceRow(first.at_s, took_s, row.command, row.detail, 1, waited, row.place)


def _joined(rows: list[TraceRow]) -> list[TraceRow]:
    out: list[TraceRow] = []
    for row in rows:
        last = out[-1] if out else None
        follows = (
            last is not None
            and last.what == row.what
            and last.place is not None
            and row.place is not None
            and sum(last.place) == row.place[0]
        )
        same = last is not None and (last.what, last.detail) == (row.what, row.detail) and not row.place
        if last is None or not (follows or same):
            out.append(row)
            continue
        merged = replace(
            last,
            took_s=row.at_s + row.took_s - last.at_s,
            times=last.times + 1,
            waited_s=last.waited_s + row.waited_s,
        )
        if last.place is not None and row.place is not None:
            start, size = last.place[0], last.place[1] + row.place[1]
            digits = 8 if start + size > 0x10000 else 4
            span = f"{start:0{digits}X}-{start + size - 1:0{digits}X}, {count(size, 'byte')}"
            merged = replace(merged, detail=span, place=(start, size))
        out[-1] = merged
    return out


def _line_rows(trace: Trace) -> list[TraceRow]:
    rows = []
    for index, change in enumerate(trace.changes):
        before = trace.changes[index - 1] if index else None
        said = []
        if before is None or (before.dtr, before.rts) != (change.dtr, change.rts):
            said.append(f"DTR {_word(change.dtr)}, RTS {_word(change.rts)}")
        if before is not None and before.on_break != change.on_break:
            said.append(f"break {'on' if change.on_break else 'off'}")
        if before is None or before.settings != change.settings:
            said.append(str(change.settings))
        rows.append(TraceRow(change.at_s, 0.0, "lines", "; ".join(said)))
    return rows


def _word(asserted: bool) -> str:
    return "asserted" if asserted else "released"
