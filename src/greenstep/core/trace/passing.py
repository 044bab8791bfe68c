"""Bytes as they go by, in lines of text: what is sent and heard together is shown together."""

from __future__ import annotations

from collections.abc import Iterator

from ..quantities import show_bytes
from ..recording_link import LineEvent
from ..secrets import MaskedStream, Secrets

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
