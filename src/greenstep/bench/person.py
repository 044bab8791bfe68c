"""A simulated person at a board with three wires: sets the boot pin, presses reset, and sets it back, when the tool
asks for it; and does so as people do."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Literal

from greenstep.core.frozen import changing, frozen

from .circuits import PinChange

if TYPE_CHECKING:
    from .line import SimulatedLine


Habit = Literal["", "forgets", "late", "twice", "holds-on", "leaves"]
HABITS: dict[str, str] = {
    "forgets": "first forgets the boot pin, and presses again 3 s later",
    "late": "takes 12 s longer",
    "twice": "presses reset twice within half a second",
    "holds-on": "holds reset for 2 s",
    "leaves": "is gone at the end: the boot pin stays set",
}
_PRESS_S, _AGAIN_S, _LATE_S, _LONG_S = 0.1, 3.0, 12.0, 2.0
_SECOND_S = 0.4
_NOTHING_ASKED_S = 2.5
"""When the tool has asked nothing for so long, and the chip waits, it is the person's turn."""


@frozen
class Hands:
    """What a person does, `after_s` seconds after being asked. `order_right` False never sets the boot pin."""

    after_s: float
    order_right: bool = True
    habit: Habit = ""

    def press(self, line: SimulatedLine, asked_at_s: float) -> None:
        """Into the bootloader: put the moves on the line's schedule."""
        line.change_pins(self._moves(asked_at_s, self.order_right, not self.order_right))

    def leave(self, line: SimulatedLine, asked_at_s: float) -> None:
        """The moves that run the program: the boot pin back, reset."""
        if self.habit != "leaves":
            line.change_pins(self._moves(asked_at_s, False, line.boot_selected))

    def _moves(self, asked_at_s: float, boot: bool, forgotten: bool) -> list[PinChange]:
        """`boot` is how the boot pin should be, `forgotten` how it is if nobody thinks of it."""
        begin_s = asked_at_s + self.after_s + (_LATE_S if self.habit == "late" else 0.0)
        held_s = _LONG_S if self.habit == "holds-on" else _PRESS_S
        moves = []
        if self.habit == "forgets":
            as_it_was = (not boot) if boot else forgotten
            moves += _press(begin_s, held_s, as_it_was)
            begin_s += _AGAIN_S
        moves += _press(begin_s, held_s, boot)
        if self.habit == "twice":
            moves += _press(begin_s + _SECOND_S, held_s, boot)
        return moves


def _press(at_s: float, held_s: float, boot: bool) -> list[PinChange]:
    return [PinChange(at_s, True, boot), PinChange(at_s + held_s, False, boot)]


@changing
class Watchful:
    """A person who cannot read the screen, and goes by the line: begins when the tool sends its first byte, and sets
    the boot pin back once it has been asking nothing for a while, or has asked nothing at all."""

    hands: Hands
    nothing_asked_s: float = _NOTHING_ASKED_S
    longest_look_s: float = math.inf
    """Longer than this between two looks, and the machine was busy elsewhere: the tool had no time to ask."""
    pressed: bool = False
    left: bool = False
    quiet_s: float = 0.0
    looked_at_s: float | None = None

    def wrote(self, line: SimulatedLine, at_s: float) -> None:
        """The tool sends something."""
        if not self.pressed:
            self.pressed, self.left = True, False  # whatever was done before the tool began to ask
            self.hands.press(line, at_s)
        self.quiet_s, self.looked_at_s = 0.0, at_s

    def looks(self, line: SimulatedLine, at_s: float) -> None:
        """Some time has passed."""
        before_s = at_s if self.looked_at_s is None else self.looked_at_s
        self.quiet_s += min(at_s - before_s, self.longest_look_s)
        self.looked_at_s = at_s
        in_loader = line.boot_selected or not self.pressed
        waits = not self.left and in_loader and (line.at_rest or not self.pressed)
        if waits and self.quiet_s >= self.nothing_asked_s:
            self.left = True
            self.hands.leave(line, at_s)
