"""A bench board in real time: the simulated line on the real clock, in a thread of its own."""

from __future__ import annotations

import threading
import time
from abc import ABC, abstractmethod

from .boards import BenchBoard
from .delivered_time import LATE_S, LONGEST_WAIT_S, DeliveredTime
from .faults import Faults
from .person import Hands, Watchful

_MOST_WAITING = 1 << 16
_NOTHING_ASKED_S = 6.0
"""On a busy computer the tool may be held up for seconds between two questions."""
PLUGGED_IN_S = 10.0
"""How long a board entered by hand has been on: a loader that runs after power-up is over."""


class RealTimeBoard(ABC):
    """`url` is the port to use. `_serve` runs in a thread of its own until `close`."""

    url: str

    def __init__(self, board: BenchBoard, faults: Faults | None, turnaround_s: float, hands: Hands | None) -> None:
        self.board = board
        self.line = board.build(faults, turnaround_s)
        self._person = None if hands is None else Watchful(hands, _NOTHING_ASKED_S, LONGEST_WAIT_S + LATE_S)
        self._ended = threading.Event()
        self._seen_s = time.monotonic()
        self._time = DeliveredTime(self.line)
        self._thread = threading.Thread(target=self._serve, name=f"bench {board.name}", daemon=True)

    def _begin(self) -> None:
        self.line.power_on(0.0)
        if self._person is not None:
            self._time = DeliveredTime(self.line, PLUGGED_IN_S)
            self.line.take(PLUGGED_IN_S, 1 << 16)
        self._seen_s = time.monotonic()
        self._thread.start()

    def close(self) -> None:
        self._ended.set()
        self._thread.join(timeout=2)
        self._release()

    @abstractmethod
    def _serve(self) -> None: ...

    @abstractmethod
    def _release(self) -> None:
        """Release the resource that the board was served on."""

    def _wait_s(self) -> float:
        """How long to wait for the host now."""
        return self._time.wait_s(time.monotonic() - self._seen_s)

    def _look(self, waiting: bool) -> None:
        """Let the time since the last look pass; `waiting` is whether there are bytes from the host to read."""
        real_s = time.monotonic()
        elapsed_s, self._seen_s = real_s - self._seen_s, real_s
        self._time.look(elapsed_s, waiting)

    @property
    def _now(self) -> float:
        return self._time.now

    def _written(self, data: bytes) -> None:
        """What the tool wrote; its first bytes make the simulated person move."""
        if self._person is not None:
            self._person.wrote(self.line, self._now)
        if self.line.backlog < _MOST_WAITING:  # an adapter whose buffer is full takes no more
            self.line.write(self._now, data)

    def _heard(self) -> bytes:
        if self._person is not None:
            self._person.looks(self.line, self._now)
        return self.line.take(self._now, 1 << 16)
