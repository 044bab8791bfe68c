"""What a trace holds: every byte with its time on the wire, and every change of lines, break and settings; and the
link that records everything that passes, for the findings and for traces."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Mapping
from dataclasses import field, replace
from typing import Literal

from ..frozen import frozen
from ..link import LineErrors, LineSettings, Link, LinkFlooded
from ..safety.secrets import Secrets

Way = Literal["sent", "heard"]


@frozen
class ByteSeen:
    """One character: when its start bit began and how long it took, in seconds."""

    at_s: float
    way: Way
    value: int
    took_s: float

    @property
    def end_s(self) -> float:
        return self.at_s + self.took_s


@frozen
class LineChange:
    """Lines (True is asserted), break and settings as they are from `at_s` on."""

    at_s: float
    dtr: bool
    rts: bool
    on_break: bool
    settings: LineSettings


@frozen
class Trace:
    """`bytes_seen` and `changes` in time order; `notes` are what was known of the board: names and values."""

    bytes_seen: tuple[ByteSeen, ...]
    changes: tuple[LineChange, ...]
    end_s: float
    notes: Mapping[str, str] = field(default_factory=dict)

    @classmethod
    def of(
        cls,
        events: Iterable[LineEvent],
        opened_s: float,
        settings: LineSettings,
        lines: tuple[bool, bool],
        secrets: Secrets,
        notes: Mapping[str, str],
    ) -> Trace:
        """From a recording that began at `opened_s` of its clock. Bytes sent leave one after the other; those read
        together arrived just before. Secrets become stars."""
        collected = list(events)
        changes = [LineChange(0.0, *lines, False, settings)]
        placer = _Placer(secrets, collected)
        end_s = 0.0
        for event in collected:
            at_s = event.at_s - opened_s
            last = changes[-1]
            if event.direction == "sent" or event.direction == "heard":
                placer.add(event.direction, at_s, len(event.data), last.settings.seconds(1))
            elif event.direction == "lines":
                changes.append(LineChange(at_s, *event.lines, last.on_break, last.settings))
            elif event.direction == "break":
                changes.append(LineChange(at_s, last.dtr, last.rts, event.on, last.settings))
            elif event.settings is not None:
                changes.append(LineChange(at_s, last.dtr, last.rts, last.on_break, event.settings))
            end_s = max(end_s, at_s)
        placer.close()
        end_s = max([end_s, *(byte.end_s for byte in placer.seen[-1:])])
        return cls(tuple(placer.seen), tuple(changes), end_s, dict(notes))


_SHORTEST_S = 2e-7
"""Two ticks of the file: bytes of a port without a rate still come one after the other."""


_Pieces = list[tuple[float, int, float]]
"""(time, number of bytes, seconds a character takes) of each write or read."""


class _Placer:
    """Gives every byte its time on the wire.

    Written bytes leave from then on; read bytes had come by then. An answer follows its question, even if its first
    bytes came while the question was still being sent. If the time is too short, because a port is quicker than its
    rate (a pty passes bytes at once), bytes are made shorter.
    """

    def __init__(self, secrets: Secrets, events: list[LineEvent]) -> None:
        self._values = {way: iter(_masked(events, way, secrets)) for way in ("sent", "heard")}
        self._sent: _Pieces = []
        self._heard: _Pieces = []
        self._free_s = 0.0
        self.seen: list[ByteSeen] = []

    def add(self, way: Way, at_s: float, size: int, char_s: float) -> None:
        """So many bytes written, or read, at a time."""
        if not size:
            return
        if way == "sent" and self._heard:
            self.close()
        (self._sent if way == "sent" else self._heard).append((at_s, size, char_s))

    def close(self) -> None:
        """Place a question and its answer."""
        if self._sent:
            self._place("sent", self._leaving())
        if self._heard:
            self._place("heard", self._arriving())
        self._sent, self._heard = [], []

    def _place(self, way: Way, starts: list[tuple[float, float]]) -> None:
        for start_s, took_s in starts:
            start_s = max(start_s, self._free_s)
            self.seen.append(ByteSeen(start_s, way, next(self._values[way]), took_s))
            self._free_s = start_s + took_s

    def _until(self) -> float:
        """When the question must be over: before its answer came, as far as that fits on the line."""
        if not self._heard:
            return float("inf")
        answer_s = sum(size * char_s for _, size, char_s in self._heard)
        return max(self._heard[0][0], self._heard[-1][0] - answer_s)

    def _leaving(self) -> list[tuple[float, float]]:
        starts = []
        free_s, until_s = self._free_s, self._until()
        for at_s, size, char_s in self._sent:
            begin_s = max(free_s, at_s)
            took_s = max(_SHORTEST_S, min(char_s, max(0.0, until_s - begin_s) / size))
            starts += [(begin_s + n * took_s, took_s) for n in range(size)]
            free_s = begin_s + size * took_s
        return starts

    def _arriving(self) -> list[tuple[float, float]]:
        """From the last byte backwards: each had come before it was read, and before the next one."""
        total = sum(size for _, size, _ in self._heard)
        room_s = max(0.0, self._heard[-1][0] - self._free_s) / total
        starts: list[tuple[float, float]] = []
        following_s = float("inf")
        for at_s, size, char_s in reversed(self._heard):
            took_s = max(_SHORTEST_S, min(char_s, room_s))
            for _ in range(size):
                following_s = min(following_s, at_s) - took_s
                starts.append((following_s, took_s))
        return starts[::-1]


def _masked(events: list[LineEvent], way: str, secrets: Secrets) -> bytes:
    """All bytes of one direction as one text, so that a secret split over several pieces is found too."""
    return secrets.mask(b"".join(event.data for event in events if event.direction == way))


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
