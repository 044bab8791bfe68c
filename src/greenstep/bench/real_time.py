"""A bench board in real time: the simulated line on the real clock, in a thread of its own."""

from __future__ import annotations

import threading
import time
from abc import ABC, abstractmethod

from .boards import BenchBoard, Hands
from .faults import Faults

LONGEST_WAIT_S = 0.05
LONGEST_PAUSE_S = 0.15
"""The board looks at the clock at least every LONGEST_WAIT_S. Where it could not for longer than this, the machine
was busy with something else: that time does not pass for the board, whose patience would be over before it could
listen."""
PLUGGED_IN_S = 10.0
"""For how long a board that a person enters has had its power: a loader that runs after power-up is over."""


class RealTimeBoard(ABC):
    """`url` is the port to use. `_serve` runs in a thread of its own until `close`."""

    url: str

    def __init__(self, board: BenchBoard, faults: Faults | None, turnaround_s: float, hands: Hands | None) -> None:
        self.board = board
        self.line = board.build(faults, turnaround_s)
        self._hands = hands
        self._pressed = False
        self._ended = threading.Event()
        self._seen_s = time.monotonic()
        self._time_s = 0.0
        self._thread = threading.Thread(target=self._serve, name=f"bench {board.name}", daemon=True)

    def _begin(self) -> None:
        self.line.power_on(0.0)
        if self._hands is not None:
            self._time_s = PLUGGED_IN_S
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
        """Give back what the board was served on."""

    def _now(self) -> float:
        real_s = time.monotonic()
        self._time_s += min(real_s - self._seen_s, LONGEST_PAUSE_S)
        self._seen_s = real_s
        return self._time_s

    def _written(self, data: bytes) -> None:
        """What the tool wrote; the first of it makes the simulated person move."""
        if self._hands is not None and not self._pressed:
            self._pressed = True
            self._hands.press(self.line, self._now())
        self.line.write(self._now(), data)

    def _heard(self) -> bytes:
        return self.line.take(self._now(), 1 << 16)

    def _wait_s(self) -> float:
        """How long nothing will happen on the line by itself."""
        following = self.line.next_answer
        if following is None:
            return LONGEST_WAIT_S
        return min(LONGEST_WAIT_S, max(0.0, following - self._now()))
