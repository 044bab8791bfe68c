"""Moving the pins: a hookup and a sequence turned into DTR and RTS on a link."""

from __future__ import annotations

from ..link import Link
from .circuits import Hookup
from .sequence import Pin, Sequence, Wait


class Driver:
    """Knows where the pins are, so that each step changes only what it names."""

    def __init__(self, link: Link, hookup: Hookup) -> None:
        self._link = link
        self._hookup = hookup
        self._reset = False
        self._boot = False
        self._lines = hookup.idle_lines

    def run(self, sequence: Sequence) -> None:
        """Raises LinesMissing where the port has no such lines, LinkLost where it went away."""
        for step in sequence.steps:
            if isinstance(step, Wait):
                self._link.sleep(step.seconds)
            else:
                self._move(dict(step.pins))

    def _move(self, pins: dict[Pin, bool]) -> None:
        if "break" in pins:
            self._link.set_break(pins["break"])
        if "reset" in pins or "boot" in pins:
            self._reset = pins.get("reset", self._reset)
            self._boot = pins.get("boot", self._boot)
            self._lines = self._hookup.lines_for(self._reset, self._boot)
        dtr, rts = self._lines
        self._lines = (pins.get("dtr", dtr), pins.get("rts", rts))
        if pins.keys() - {"break"}:
            self._link.set_lines(*self._lines)
