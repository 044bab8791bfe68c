"""A link that notes everything that passes, for the findings and for whoever wants to read the line later."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass
from typing import Literal

from .link import LineErrors, LineSettings, Link

Direction = Literal["sent", "heard", "lines", "break", "settings"]


@dataclass(frozen=True)
class LineEvent:
    """One thing that happened on the line, the `number`th since it was opened. `at_s` is the link's clock;
    `text` describes lines and settings."""

    number: int
    at_s: float
    direction: Direction
    data: bytes = b""
    text: str = ""


class RecordingLink:
    """Passes everything on to `inner` and keeps the last `most` events."""

    def __init__(self, inner: Link, most: int = 4000) -> None:
        self._inner = inner
        self.events: deque[LineEvent] = deque(maxlen=most)
        self.mark = 0
        self.sent_total = 0
        self.heard_total = 0

    def _note(self, direction: Direction, data: bytes = b"", text: str = "") -> None:
        self.events.append(LineEvent(self.mark, self._inner.now(), direction, data, text))
        self.mark += 1

    def between(self, first: int, end: int | None, direction: Direction) -> bytes:
        """All bytes of one direction in the events from number `first` to before `end`, as far back as events
        are kept. `mark` is the number of the next one."""
        return b"".join(
            event.data
            for event in self.events
            if event.direction == direction and event.number >= first and (end is None or event.number < end)
        )

    @property
    def settings(self) -> LineSettings:
        return self._inner.settings

    def configure(self, settings: LineSettings) -> None:
        self._inner.configure(settings)
        self._note("settings", text=str(settings))

    def write(self, data: bytes) -> None:
        self._note("sent", bytes(data))
        self.sent_total += len(data)
        self._inner.write(data)

    def read(self, size: int, timeout_s: float) -> bytes:
        return self._heard(self._inner.read(size, timeout_s))

    def discard(self) -> bytes:
        return self._heard(self._inner.discard())

    def _heard(self, data: bytes) -> bytes:
        if data:
            self._note("heard", data)
            self.heard_total += len(data)
        return data

    def set_lines(self, dtr: bool, rts: bool) -> None:
        self._inner.set_lines(dtr, rts)
        self._note("lines", text=f"DTR {_line(dtr)}, RTS {_line(rts)}")

    def set_break(self, on: bool) -> None:
        self._inner.set_break(on)
        self._note("break", text="on" if on else "off")

    def errors(self) -> LineErrors | None:
        return self._inner.errors()

    def now(self) -> float:
        return self._inner.now()

    def sleep(self, seconds: float) -> None:
        self._inner.sleep(seconds)

    def close(self) -> None:
        self._inner.close()


def _line(asserted: bool) -> str:
    return "asserted" if asserted else "released"
