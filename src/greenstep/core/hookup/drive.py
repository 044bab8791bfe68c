"""Moving the pins: a hookup and a sequence become DTR and RTS on a link."""

from __future__ import annotations

from typing import Protocol

from .circuits import Hookup
from .other_pins import OutsidePins
from .sequence import HangUp, Pin, Sequence, Wait

_BREAK_AFTER_S = 0.03
"""How long a break outlasts the moves: reset rises after them, and the chip checks its RX soon after."""


class Movable(Protocol):
    """What a driver needs from a link."""

    def sleep(self, seconds: float) -> None: ...

    def set_lines(self, dtr: bool, rts: bool) -> None: ...

    def set_break(self, on: bool) -> None: ...

    def reopen(self, baud: int | None) -> bool: ...


class Driver:
    """Knows where the pins are, so that each step changes only what it names."""

    def __init__(self, link: Movable, hookup: Hookup, pins: OutsidePins | None = None) -> None:
        """`pins` moves those that no line of the port reaches; without it they stay where they are."""
        self._link = link
        self._pins = pins
        self._outside = dict(hookup.outside)
        self._hookup = hookup
        self._reset = False
        self._boot = False
        self._lines = hookup.idle_lines
        self.went = False
        """Whether the port was seen to go, and to come back, at a hang-up."""

    def enter(self, through_break: bool = False) -> None:
        """Run the hookup's sequence into the bootloader, if it has one. Raises LinesMissing, LinkLost."""
        if self._hookup.enter is not None:
            self.run(self._hookup.enter, through_break)

    def leave(self) -> None:
        """Run its sequence into the application, if it has one. Raises LinesMissing, LinkLost."""
        if self._hookup.leave is not None:
            self.run(self._hookup.leave)

    def run(self, sequence: Sequence, through_break: bool = False) -> None:
        """Raises LinesMissing if the port has no such lines, LinkLost if it disappeared, PinFailed.

        `through_break` holds TX low meanwhile and a little longer."""
        if through_break:
            self._link.set_break(True)
            try:
                self.run(sequence)
                self._link.sleep(_BREAK_AFTER_S)
            finally:
                self._link.set_break(False)
            return
        for step in sequence.steps:
            if isinstance(step, Wait):
                self._link.sleep(step.seconds)
            elif isinstance(step, HangUp):
                self.went = self._link.reopen(step.baud) or self.went
            else:
                self._move(dict(step.pins))

    def _move(self, pins: dict[Pin, bool]) -> None:
        if "break" in pins:
            self._link.set_break(pins["break"])
        for pin, by in self._outside.items():
            if pin in pins and self._pins is not None:
                self._pins.move(pin, by, pins[pin])
        pins = {pin: on for pin, on in pins.items() if pin not in self._outside and pin != "power"}
        if "reset" in pins or "boot" in pins:
            self._reset = pins.get("reset", self._reset)
            self._boot = pins.get("boot", self._boot)
            self._lines = self._hookup.lines_for(self._reset, self._boot)
        dtr, rts = self._lines
        self._lines = (pins.get("dtr", dtr), pins.get("rts", rts))
        if pins.keys() - {"break"}:
            self._link.set_lines(*self._lines)
