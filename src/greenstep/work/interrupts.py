"""Ctrl-C and termination, delivered to a run and nowhere else."""

from __future__ import annotations

import signal
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from types import FrameType
from typing import Any


class Interrupts:
    """While the run is at work they raise at once. While an event is being shown they wait until the run is asked for
    its next one, so that it can always say what state the chip is in.

    `heard`: whether one ever came. One that comes with the last event of a run changes nothing in that run; and what
    is raised while an object is disposed of is lost (Python prints it and goes on). Whoever goes on after a run looks
    here.
    """

    def __init__(self) -> None:
        self.inside = False
        self.pending = False
        self.heard = False

    def _arrived(self, number: int, frame: FrameType | None) -> None:
        self.heard = True
        if self.inside:
            self.inside = False
            raise KeyboardInterrupt
        self.pending = True

    def _noted(self, number: int, frame: FrameType | None) -> None:
        self.heard = True
        raise KeyboardInterrupt

    def caught(self) -> AbstractContextManager[None]:
        """For the time of a run."""
        return _handled(self._arrived)

    def noted(self) -> AbstractContextManager[None]:
        """For what goes on between runs: they raise at once, as they would without, and are remembered."""
        return _handled(self._noted)


@contextmanager
def _handled(handler: Callable[[int, FrameType | None], None]) -> Iterator[None]:
    """Signals arrive here. Outside the main thread they go elsewhere anyway."""
    numbers = (signal.SIGINT, signal.SIGTERM)
    try:
        before: dict[int, Any] = {number: signal.signal(number, handler) for number in numbers}
    except ValueError:
        yield
        return
    try:
        yield
    finally:
        for number, kept in before.items():
            signal.signal(number, kept)
