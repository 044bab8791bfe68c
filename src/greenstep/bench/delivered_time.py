"""The time in which a served board lives: the real clock's, as far as its process was there to see it.

The machine may hold this process up for as long as it likes, and what was sent meanwhile waits to be read. What the
board was busy with is over by the clock then; but its patience is not used up while it could not listen, and what
waits to be read came before that was at its end.
"""

from __future__ import annotations

from .line import SimulatedLine

LONGEST_WAIT_S = 0.05
"""A board looks at the clock at least so often."""
LATE_S = 0.02
"""How much later than it wanted to it may look before its process counts as held up."""
_HEARD_IN = 3
"""In how many characters' time the chip hears what is read now."""


class DeliveredTime:
    """Times in seconds. Between two looks `now` stands still."""

    def __init__(self, line: SimulatedLine, begin_s: float = 0.0) -> None:
        self.now = begin_s
        self._line = line
        self._waited_s = LONGEST_WAIT_S

    def wait_s(self, since_s: float = 0.0) -> float:
        """How long nothing will happen on the line by itself, when the last look was so long ago."""
        following = self._line.next_look
        until_s = LONGEST_WAIT_S if following is None else following - self.now - since_s
        self._waited_s = since_s + min(LONGEST_WAIT_S, max(0.0, until_s))
        return self._waited_s - since_s

    def look(self, elapsed_s: float, waiting: bool) -> None:
        """Let `elapsed_s` pass since the last look; `waiting` is whether there is something from the host to read."""
        allowed_s = self._waited_s + LATE_S
        if waiting or elapsed_s > allowed_s:
            self.now = self._heedful(self.now + elapsed_s, min(elapsed_s, allowed_s), waiting)
        else:
            self.now += elapsed_s
        self._line.advance(self.now)
        self._waited_s = LONGEST_WAIT_S

    def _heedful(self, to_s: float, patience_s: float, waiting: bool) -> float:
        """Let the board live up to `to_s`, but use up no more than so much of its patience, and none of it to its end
        while something waits to be read. The time it is then."""
        line, at_s = self._line, self.now
        while at_s < to_s:
            following = line.next_change
            step_s = to_s if following is None else min(to_s, following)
            ends_s = line.chip.patience_ends
            if ends_s is not None:
                limit_s = at_s + patience_s
                if waiting:
                    limit_s = min(limit_s, max(at_s, ends_s - line.settings.seconds(_HEARD_IN)))
                if step_s > limit_s:
                    return limit_s
                patience_s -= step_s - at_s
            line.advance(step_s)
            at_s = step_s
        return at_s
