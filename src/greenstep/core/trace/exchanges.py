"""Who spoke when: questions and answers, where the time went, and bytes as they go by in lines of text."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator

from ..frozen import frozen
from ..quantities import show_bytes
from ..safety.secrets import MaskedStream, Secrets
from .recording import ByteSeen, LineEvent, Trace

_BUSY_FACTOR = 3.0
_BUSY_LEAST_S = 0.0015
_SILENCE_S = 0.03
_NO_WAIT_S = 1e-5


@frozen
class Exchange:
    """What was sent, and what was heard until something was sent again. `wait_s` is from the last bit sent to the
    first heard, None if nothing came; `pauses_s` is the time between the bytes of the answer."""

    at_s: float
    sent: bytes
    heard: bytes
    end_s: float
    wait_s: float | None
    pauses_s: float = 0.0


@frozen
class Shares:
    """How the seconds of a recording were spent.

    `sending_s` and `hearing_s`: bytes on the wire; `turns_s`: waiting for the usual turn of the line in `turns`
    answers of `turn_s` each; `busy_s`: what answers took beyond that, the chip being busy; `unanswered_s`: waiting
    for something that did not come; `lines_s`: while DTR and RTS were moved; `own_s`: the rest, before the next
    question.
    """

    total_s: float
    sending_s: float
    hearing_s: float
    turns_s: float
    busy_s: float
    unanswered_s: float
    lines_s: float
    own_s: float
    turns: int
    turn_s: float


def exchanges_of(trace: Trace) -> list[Exchange]:
    """Questions with their answers, in time order; the first may be an answer without a question. Anything sent again
    after a silence, or after lines or settings changed, is a new question; anything heard after such a change answers
    no question."""
    found: list[Exchange] = []
    sent: list[ByteSeen] = []
    heard: list[ByteSeen] = []
    changes = deque(change.at_s for change in trace.changes[1:])

    def close() -> None:
        if sent or heard:
            first = (sent or heard)[0]
            wait = max(0.0, heard[0].at_s - sent[-1].end_s) if sent and heard else None
            end = max(byte.end_s for byte in (*sent[-1:], *heard[-1:]))
            pauses = heard[-1].end_s - heard[0].at_s - sum(byte.took_s for byte in heard) if heard else 0.0
            found.append(Exchange(first.at_s, _data(sent), _data(heard), end, wait, max(0.0, pauses)))
        sent.clear()
        heard.clear()

    for byte in trace.bytes_seen:
        while changes and changes[0] <= byte.at_s:
            changes.popleft()
            close()
        if byte.way == "sent":
            if heard or (sent and byte.at_s - sent[-1].end_s > _SILENCE_S):
                close()
            sent.append(byte)
        else:
            heard.append(byte)
    close()
    return found


def _data(seen: list[ByteSeen]) -> bytes:
    return bytes(byte.value for byte in seen)


def time_shares(trace: Trace) -> Shares:
    """Every moment of the recording in one share; overlaps count once, sending before hearing."""
    exchanges = exchanges_of(trace)
    waits = sorted(exchange.wait_s for exchange in exchanges if exchange.wait_s is not None)
    turns = [wait for wait in waits if wait > _NO_WAIT_S]
    turn_s = turns[len(turns) // 4] if turns else 0.0
    busy_from_s = max(_BUSY_FACTOR * turn_s, turn_s + _BUSY_LEAST_S)
    busy_s = sum(wait - turn_s for wait in waits if wait > busy_from_s)
    turns_s = sum(waits) - busy_s
    pauses = [exchange.pauses_s for exchange in exchanges if exchange.sent]
    busy_s += sum(pauses)
    sending_s = sum(byte.took_s for byte in trace.bytes_seen if byte.way == "sent")
    hearing_s = sum(byte.took_s for byte in trace.bytes_seen if byte.way == "heard")
    lines_s, own_s, unanswered_s = _gaps(trace, exchanges)
    total_s = trace.end_s
    # bytes sent while answers still came count once
    overlap_s = sending_s + hearing_s + turns_s + busy_s + lines_s + own_s + unanswered_s - total_s
    return Shares(
        total_s,
        sending_s,
        max(0.0, hearing_s - max(0.0, overlap_s)),
        turns_s,
        busy_s,
        unanswered_s,
        lines_s,
        own_s,
        len(waits),
        turn_s,
    )


def _gaps(trace: Trace, exchanges: list[Exchange]) -> tuple[float, float, float]:
    """(lines, own, unanswered) seconds of the gaps between exchanges, before the first and after the last."""
    moves = [change.at_s for change in trace.changes[1:]]
    lines_s = own_s = unanswered_s = 0.0
    at_s, answered = 0.0, True
    for exchange in [*exchanges, None]:
        following = trace.end_s if exchange is None else exchange.at_s
        gap = max(0.0, following - at_s)
        if any(at_s <= move <= following for move in moves):
            lines_s += gap
        elif answered:
            own_s += gap
        else:
            unanswered_s += gap
        if exchange is not None:
            if not exchange.sent:  # a program's text, and its pauses
                own_s += exchange.pauses_s
            at_s, answered = exchange.end_s, bool(exchange.heard)
    return lines_s, own_s, unanswered_s


_PAUSE_S = 0.03
_MOST = 16
"""Bytes in a line; the number of the others is told."""


class Passing:
    """Takes the events of a link, and gives lines: `1.204 s  sent   7F`. Secrets are masked."""

    def __init__(self, secrets: Secrets) -> None:
        self._masks = {way: MaskedStream(secrets) for way in ("sent", "heard")}
        self._way = ""
        self._data = b""
        self._began_s = self._last_s = 0.0
        self._first_s: float | None = None

    def take(self, event: LineEvent) -> Iterator[str]:
        """The lines that are complete now."""
        if self._first_s is None:
            self._first_s = event.at_s
        if event.direction in ("sent", "heard"):
            if event.direction != self._way or event.at_s - self._last_s > _PAUSE_S:
                yield from self.rest()
                self._way, self._began_s = event.direction, event.at_s
            self._data += self._masks[event.direction].feed(event.data)
            self._last_s = event.at_s
            return
        yield from self.rest()
        if event.direction == "lines":
            dtr, rts = ("on" if on else "off" for on in event.lines)
            yield self._line(event.at_s, "lines", f"DTR {dtr}, RTS {rts}")
        elif event.direction == "break":
            yield self._line(event.at_s, "break", "on" if event.on else "off")
        else:
            yield self._line(event.at_s, "rate", str(event.settings))

    def rest(self) -> Iterator[str]:
        """What is not complete yet."""
        if not self._way:
            return
        data, self._data = self._data + self._masks[self._way].flush(), b""
        if data:
            yield self._line(self._began_s, self._way, show_bytes(data, _MOST))

    def _line(self, at_s: float, what: str, text: str) -> str:
        return f"{at_s - (self._first_s or 0.0):9.3f} s  {what:<6} {text}"
