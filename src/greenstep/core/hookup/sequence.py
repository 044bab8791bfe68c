"""The little language of sequences: `boot on; reset on; wait 100 ms; reset off; wait 50 ms; boot off`.

A statement is a pin with `on` or `off`, or a wait. Pins are roles (`boot on` = the pin is where it selects the
bootloader, `reset on` = the chip is held in reset) or lines (`dtr on` = asserted, 0 V on a TTL adapter; `break on` =
TX held at space); `hang-up 1200` closes the port at that rate, which a board that is its own USB device takes as a
request to come back as its bootloader, and opens it again. Statements are separated by `;`; a `,` between two moves
makes them happen at once.
"""

from __future__ import annotations

import re
from typing import Literal

from ..frozen import frozen
from ..suggestions import nearest

Pin = Literal["reset", "boot", "power", "dtr", "rts", "break"]
PINS: tuple[Pin, ...] = ("reset", "boot", "power", "dtr", "rts", "break")
LONGEST_WAIT_S = 60.0
STATEMENTS = {
    "reset on, reset off": "hold the chip in reset, release it",
    "boot on, boot off": "set the boot pin so that it selects the bootloader, or does not",
    "power on, power off": "switch the board's supply, where the hookup has a way",
    "dtr on, rts off, …": "a line by itself: on is asserted, which is 0 V on a TTL adapter",
    "break on, break off": "hold TX at space, release it",
    "hang-up 1200": "close the port at that rate with both lines released, and open the port that comes back",
    "wait 100 ms, wait 0.5 s": "wait",
}
"""What a sequence is made of."""


@frozen
class Move:
    """Pins that change at once."""

    pins: tuple[tuple[Pin, bool], ...]

    def __str__(self) -> str:
        return ", ".join(f"{pin} {'on' if on else 'off'}" for pin, on in self.pins)


@frozen
class Wait:
    seconds: float

    def __str__(self) -> str:
        return f"wait {self.seconds * 1000:g} ms"


@frozen
class HangUp:
    """Close the port at a rate with both lines released, and open whatever comes back."""

    baud: int

    def __str__(self) -> str:
        return f"hang-up {self.baud}"


@frozen
class Sequence:
    """Moves, waits and hang-ups in order."""

    steps: tuple[Move | Wait | HangUp, ...]

    @property
    def hangs_up(self) -> bool:
        """Whether the port disappears and comes back."""
        return any(isinstance(step, HangUp) for step in self.steps)

    def __str__(self) -> str:
        return "; ".join(str(step) for step in self.steps)

    def moves(self, pin: Pin) -> bool:
        """Whether any step changes `pin`."""
        return any(isinstance(step, Move) and pin in dict(step.pins) for step in self.steps)


class SequenceError(ValueError):
    """A sequence that cannot be read. `column` counts from 1."""

    def __init__(self, text: str, column: int, found: str, expected: str) -> None:
        super().__init__(f"column {column}: {found}; expected {expected}")
        self.text = text
        self.column = column


def parse_sequence(text: str) -> Sequence:
    """Raises SequenceError, which names the column, what was found and what was expected."""
    steps: list[Move | Wait | HangUp] = []
    for match in re.finditer(r"[^;]+", text):
        statement = match[0]
        if not statement.strip():
            continue
        column = match.start() + 1
        words = _words(statement, column)
        if words[0][0] == "wait":
            steps.append(_wait(text, words))
        elif words[0][0] == "hang-up":
            steps.append(_hang_up(text, words))
        else:
            steps.append(_move(text, statement, column))
    if not steps:
        raise SequenceError(text, 1, "nothing", "moves such as 'reset on; wait 50 ms; reset off'")
    return Sequence(tuple(steps))


def _words(statement: str, column: int) -> list[tuple[str, int]]:
    return [(match[0].lower(), column + match.start()) for match in re.finditer(r"\S+", statement)]


def _hang_up(text: str, words: list[tuple[str, int]]) -> HangUp:
    if len(words) != 2 or not words[1][0].isdecimal() or not 50 <= int(words[1][0]) <= 12_000_000:
        found = f"'{words[1][0]}'" if len(words) > 1 else "nothing"
        raise SequenceError(text, words[-1][1], f"{found} after 'hang-up'", "a rate, such as 1200")
    return HangUp(int(words[1][0]))


def _wait(text: str, words: list[tuple[str, int]]) -> Wait:
    joined = " ".join(word for word, _ in words[1:])
    match = re.fullmatch(r"([0-9]+(?:\.[0-9]+)?) ?(ms|s)", joined)
    if match is None:
        column = words[1][1] if len(words) > 1 else words[0][1] + 4
        found = f"'{joined}'" if joined else "nothing"
        raise SequenceError(text, column, f"{found} after 'wait'", "a time with its unit, such as '100 ms'")
    seconds = float(match[1]) / (1000 if match[2] == "ms" else 1)
    if seconds > LONGEST_WAIT_S:
        raise SequenceError(text, words[1][1], f"a wait of {joined}", f"at most {LONGEST_WAIT_S:g} s")
    return Wait(seconds)


def _move(text: str, statement: str, column: int) -> Move:
    pins: dict[Pin, bool] = {}
    for part in re.finditer(r"[^,]+", statement):
        words = _words(part[0], column + part.start())
        if not words:
            raise SequenceError(text, column + part.start(), "nothing", "a pin with on or off")
        name, at = words[0]
        if name not in PINS:
            near = nearest(name, [*PINS, "wait", "hang-up"], 1, 0.5)
            hint = f"'{near[0]}'" if near else "reset, boot, power, dtr, rts, break, wait or hang-up"
            raise SequenceError(text, at, f"'{name}'", hint)
        pin: Pin = name
        if len(words) != 2 or words[1][0] not in ("on", "off"):
            found = f"'{words[1][0]}'" if len(words) > 1 else "nothing"
            if len(words) > 2 and words[1][0] in ("on", "off"):
                raise SequenceError(text, words[2][1], f"'{words[2][0]}'", "';' between two statements")
            where = words[1][1] if len(words) > 1 else at + len(name)
            raise SequenceError(text, where, f"{found} after '{name}'", "'on' or 'off'")
        if pin in pins:
            raise SequenceError(text, at, f"'{name}' a second time in one move", "each pin once")
        pins[pin] = words[1][0] == "on"
    return Move(tuple(pins.items()))
