"""A link that records everything that passes, for the findings and for traces."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from dataclasses import replace
from typing import Literal

from .frozen import frozen
from .link import LineErrors, LineSettings, Link, LinkFlooded
from .secrets import Secrets

_MOST_UNASKED, _FASTER = 128 << 10, 4
"""Bytes that may come at once, and how much faster than the line all more may be."""
Direction = Literal["sent", "heard", "lines", "break", "settings"]


@frozen
class LineEvent:
    """One thing that happened on the line, the `number`th since it was opened. `at_s` is on the link's clock. `data`
    are bytes sent or heard, `lines` (DTR, RTS) with True for asserted, `on` the break, `settings` the new rate and
    frame: each only for its own direction."""

    number: int
    at_s: float
    direction: Direction
    data: bytes = b""
    lines: tuple[bool, bool] = (False, False)
    on: bool = False
    settings: LineSettings | None = None


class RecordingLink:
    """Passes everything on to `inner` and keeps the last `most` events, or all if it is None. Secrets are masked in
    what `between` returns. `asks`: what is heard are answers; a flood of anything else raises LinkFlooded. `watch`
    is told of each event, with its secrets."""

    def __init__(
        self,
        inner: Link,
        most: int | None = 4000,
        secrets: Secrets | None = None,
        asks: bool = False,
        watch: Callable[[LineEvent], None] | None = None,
    ) -> None:
        self._inner = inner
        self._secrets = secrets or Secrets()
        self.events: deque[LineEvent] = deque(maxlen=most)
        self.mark = 0
        self.sent_total = 0
        self.heard_total = 0
        self._collected: bytearray | None = None
        self._asks = asks
        self._watch = watch
        self._unasked, self._asked_s = 0, inner.now()

    @property
    def makes_no_break(self) -> bool:
        """Whether a break was wanted from a port that makes none."""
        return bool(getattr(self._inner, "makes_no_break", False))

    def collect(self) -> None:
        """Keep everything heard from now on, even when the events are dropped."""
        self._collected = bytearray()

    @property
    def collected(self) -> bytes:
        """What was heard since; secrets masked."""
        return self._secrets.mask(bytes(self._collected or b""))

    def _note(
        self,
        direction: Direction,
        data: bytes = b"",
        lines: tuple[bool, bool] = (False, False),
        on: bool = False,
        settings: LineSettings | None = None,
    ) -> None:
        event = LineEvent(self.mark, self._inner.now(), direction, data, lines, on, settings)
        self.events.append(event)
        self.mark += 1
        if self._watch is not None:
            self._watch(event)

    def between(self, first: int, end: int | None, direction: Direction) -> bytes:
        """All bytes of one direction in the events from number `first` to before `end`, as far back as events are
        kept. `mark` is the number of the next one."""
        return self._secrets.mask(
            b"".join(
                event.data
                for event in self.events
                if event.direction == direction and event.number >= first and (end is None or event.number < end)
            )
        )

    def first_at(self, first: int, direction: Direction) -> float | None:
        """The time of the first event of a direction from number `first` on; None if there was none."""
        return next((e.at_s for e in self.events if e.number >= first and e.direction == direction), None)

    def times(self, direction: Direction, first: int, end: int | None) -> list[float]:
        """The times of the events of a direction from number `first` to before `end`."""
        return [
            event.at_s
            for event in self.events
            if event.direction == direction and event.number >= first and (end is None or event.number < end)
        ]

    def last_at(self, direction: Direction) -> float | None:
        """The time of the last event of a direction; None if there was none."""
        return next((e.at_s for e in reversed(self.events) if e.direction == direction), None)

    @property
    def settings(self) -> LineSettings:
        return self._inner.settings

    def configure(self, settings: LineSettings) -> None:
        self._inner.configure(settings)
        self._note("settings", settings=settings)

    def write(self, data: bytes) -> None:
        self._note("sent", bytes(data))
        self.sent_total += len(data)
        self._unasked, self._asked_s = 0, self._inner.now()
        self._inner.write(data)

    def read(self, size: int, timeout_s: float) -> bytes:
        return self._heard(self._inner.read(size, timeout_s))

    def discard(self) -> bytes:
        return self._heard(self._inner.discard())

    def _heard(self, data: bytes) -> bytes:
        if data:
            self._note("heard", data)
            self.heard_total += len(data)
            if self._collected is not None:
                self._collected += data
            if self._asks:
                self._refuse_floods(len(data))
        return data

    def _refuse_floods(self, size: int) -> None:
        """Answers may come faster than the line's rate, but no such amount unasked. Raises LinkFlooded."""
        self._unasked += size
        line_s = self.settings.seconds(self._unasked - _MOST_UNASKED)
        if line_s > _FASTER * (took_s := self.now() - self._asked_s):
            raise LinkFlooded(f"{self._unasked:,} bytes in {took_s:.2g} s, and nothing asked for them")

    def set_lines(self, dtr: bool, rts: bool) -> None:
        self._inner.set_lines(dtr, rts)
        self._note("lines", lines=(dtr, rts))

    def set_break(self, on: bool) -> None:
        self._inner.set_break(on)
        self._note("break", on=on)

    def reopen(self, baud: int | None) -> bool:
        before = self._inner.settings
        if baud is not None:
            self._note("settings", settings=replace(before, baud=baud))
        went = self._inner.reopen(baud)
        self._note("settings", settings=self._inner.settings)
        return went

    def errors(self) -> LineErrors | None:
        return self._inner.errors()

    def now(self) -> float:
        return self._inner.now()

    def sleep(self, seconds: float) -> None:
        self._inner.sleep(seconds)

    def close(self) -> None:
        self._inner.close()
