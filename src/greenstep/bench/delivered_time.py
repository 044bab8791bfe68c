"""The time in which a served board lives: the real clock's, but only while its process was there to see it.

The machine may suspend this process for any length of time, while what was sent waits to be read. Whatever kept the
board busy is over by then; but its patience is not used up while it could not listen, and bytes waiting to be read
came before it ran out.
"""

from __future__ import annotations

from .line import SimulatedLine

LONGEST_WAIT_S = 0.05
"""A board looks at the clock at least this often."""
LATE_S = 0.02
"""How late it may look before its process counts as suspended."""
_HEARD_IN = 3
"""Within how many characters' time the chip hears what is read now."""


class DeliveredTime:
    """Times in seconds. Between two looks `now` stands still."""

    def __init__(self, line: SimulatedLine, begin_s: float = 0.0) -> None:
        self.now = begin_s
        self._line = line
        self._waited_s = LONGEST_WAIT_S

    def wait_s(self, since_s: float = 0.0) -> float:
        """How long nothing will happen on the line by itself, if the last look was that long ago."""
        following = self._line.next_look
        until_s = LONGEST_WAIT_S if following is None else following - self.now - since_s
        self._waited_s = since_s + min(LONGEST_WAIT_S, max(0.0, until_s))
        return self._waited_s - since_s

    def look(self, elapsed_s: float, waiting: bool) -> None:
        """Let `elapsed_s` pass since the last look; `waiting` is whether there are bytes from the host to read."""
        allowed_s = self._waited_s + LATE_S
        if waiting or elapsed_s > allowed_s:
            self.now = self._heedful(self.now + elapsed_s, min(elapsed_s, allowed_s), waiting)
        else:
            self.now += elapsed_s
        self._line.advance(self.now)
        self._waited_s = LONGEST_WAIT_S

    def _heedful(self, to_s: float, patience_s: float, waiting: bool) -> float:
        """Let the board live up to `to_s`, but use up only that much of its patience, and never its end while
        something waits to be read. Returns the time it is then."""
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
