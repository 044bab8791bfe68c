"""What a dialect needs from a line: bytes both ways, rate and parity, DTR and RTS, break, and time.

A dialect uses this interface alone, so the same code runs on a real port, on a recorded one and on a simulated line
with a virtual clock.
"""

from __future__ import annotations

import re
from dataclasses import replace
from enum import Enum
from typing import Literal, Protocol

from .frozen import frozen

Parity = Literal["none", "even", "odd"]
_PARITY_LETTER: dict[Parity, str] = {"none": "N", "even": "E", "odd": "O"}


@frozen
class Frame:
    """The frame of a character on the line: data bits (5-8), parity, stop bits (1 or 2)."""

    data_bits: int = 8
    parity: Parity = "none"
    stop_bits: int = 1

    @property
    def bits(self) -> int:
        """Bit times one character takes, start bit included."""
        return 1 + self.data_bits + (self.parity != "none") + self.stop_bits

    def __str__(self) -> str:
        return f"{self.data_bits}{_PARITY_LETTER[self.parity]}{self.stop_bits}"

    @classmethod
    def parse(cls, text: str) -> Frame:
        """A frame written like '8E1'. Raises ValueError with a message fit to be shown."""
        match = re.fullmatch(r"([5-8])([NEOneo])([12])", text.strip())
        if match is None:
            raise ValueError(f"'{text}' is not a frame (data bits, parity N, E or O, stop bits: 8N1, 8E1)")
        parity = {letter: name for name, letter in _PARITY_LETTER.items()}[match[2].upper()]
        return cls(int(match[1]), parity, int(match[3]))


@frozen
class LineSettings:
    """Rate in baud, and the frame."""

    baud: int
    frame: Frame = Frame()

    def seconds(self, characters: float) -> float:
        """How long that many characters take on the line."""
        return characters * self.frame.bits / self.baud

    def with_frame(self, frame: Frame) -> LineSettings:
        return replace(self, frame=frame)

    def __str__(self) -> str:
        return f"{self.baud} {self.frame}"


@frozen
class LineErrors:
    """Characters that the receiver flagged since the port was opened, if the driver counts them."""

    parity: int = 0
    framing: int = 0
    overrun: int = 0


class LinkError(Exception):
    """The line itself failed: this says nothing about the chip."""


class LinkLost(LinkError):
    """The port disappeared (unplugged, or the other end of a network port closed). `reason` is its own message."""

    def __init__(self, reason: str) -> None:
        super().__init__(reason)
        self.reason = reason


class LinkFlooded(LinkLost):
    """What is at the other end sends without pause, and more than a line can carry."""


class ResetBy(Enum):
    """What resets the chip: DTR and RTS, a person, or a person because the port has no such lines."""

    LINES = "lines"
    HAND = "hand"
    HAND_WITHOUT_LINES = "hand, without lines"


class LinesMissing(LinkError):
    """This port has no DTR and RTS (a pty, some embedded UARTs)."""


class RateRefused(LinkError):
    """The port cannot make this rate, and keeps the one it had. `settings` is what was asked for."""

    def __init__(self, settings: LineSettings) -> None:
        super().__init__(str(settings))
        self.settings = settings


class Link(Protocol):
    """An open line. Times are in seconds of the link's own clock, which only moves forward."""

    @property
    def settings(self) -> LineSettings: ...

    def configure(self, settings: LineSettings) -> None:
        """Change rate and frame, after everything written has left. Raises RateRefused, LinkLost."""

    def write(self, data: bytes) -> None:
        """Send; may return before the last bit has left. Raises LinkLost."""

    def read(self, size: int, timeout_s: float) -> bytes:
        """Up to `size` bytes: returns when all have come or `timeout_s` is over. Raises LinkLost."""

    def discard(self) -> bytes:
        """Return everything received and not read yet. Raises LinkLost."""

    def set_lines(self, dtr: bool, rts: bool) -> None:
        """Assert (True) or release both lines, at once if the system can. Raises LinesMissing or LinkLost."""

    def set_break(self, on: bool) -> None:
        """Hold TX at space, or release it; an adapter that cannot does nothing. Raises LinkLost."""

    def reopen(self, baud: int | None) -> bool:
        """Close the port, at `baud` with both lines released if one is given, and open it again, under whatever name
        it comes back, with its former settings. Returns whether it was seen to go. Raises LinkLost if it does not
        come back."""

    def errors(self) -> LineErrors | None:
        """Receiver errors counted so far; None if the driver does not count."""

    def now(self) -> float: ...

    def sleep(self, seconds: float) -> None: ...

    def close(self) -> None:
        """Release both lines and close. Never raises; a second call does nothing."""


@frozen
class Deadline:
    """A point in time on a link's clock."""

    link: Link
    at: float

    @classmethod
    def after(cls, link: Link, seconds: float) -> Deadline:
        return cls(link, link.now() + seconds)

    @property
    def left_s(self) -> float:
        """Seconds left, never below 0."""
        return max(0.0, self.at - self.link.now())

    @property
    def over(self) -> bool:
        return self.link.now() >= self.at
