"""Ctrl-C and termination, delivered to a run and nowhere else."""

from __future__ import annotations

import signal
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType
from typing import Any


class Interrupts:
    """While the run is at work they raise at once. While an event is being shown they wait until the run is asked for
    its next one, so that it can always say what state the chip is in."""

    def __init__(self) -> None:
        self.inside = False
        self.pending = False

    def __call__(self, number: int, frame: FrameType | None) -> None:
        if self.inside:
            self.inside = False
            raise KeyboardInterrupt
        self.pending = True

    @contextmanager
    def caught(self) -> Iterator[None]:
        """Signals arrive here. Outside the main thread they go elsewhere anyway."""
        numbers = (signal.SIGINT, signal.SIGTERM)
        try:
            before: dict[int, Any] = {number: signal.signal(number, self) for number in numbers}
        except ValueError:
            yield
            return
        try:
            yield
        finally:
            for number, handler in before.items():
                signal.signal(number, handler)
