"""How a dialect says that the line or the chip did not cooperate."""

from __future__ import annotations

from enum import Enum

from ..quantities import show_bytes, show_heard


class DialectError(Exception):
    """Something between us and the chip went other than the document says."""


class Silence(DialectError):
    """Nothing, or too little, came. `waiting_for` has no article; `heard` is what did come."""

    def __init__(self, waiting_for: str, waited_s: float, heard: bytes = b"") -> None:
        after = f" (only {show_bytes(heard)})" if heard else ""
        super().__init__(f"no {waiting_for} within {waited_s:.1f} s{after}")
        self.waiting_for = waiting_for
        self.waited_s = waited_s
        self.heard = heard


class Unexpected(DialectError):
    """Something came that the document does not allow there. `waiting_for` has no article."""

    def __init__(self, waiting_for: str, heard: bytes) -> None:
        super().__init__(f"{show_heard(heard)} instead of {waiting_for}")
        self.waiting_for = waiting_for
        self.heard = heard


class NotReset(Unexpected):
    """The loader continues from where an earlier conversation left it, and must be reset first."""


class RateTooHigh(Unexpected):
    """Too much had to be repeated, or came out differently, at a rate that was thought good: a lower one is due."""

    def __init__(self, baud: int) -> None:
        super().__init__("a line that carries this rate", b"")
        self.baud = baud

    def __str__(self) -> str:
        return f"the line does not carry {self.baud} baud"


class UnexpectedErase(DialectError):
    """The answer belongs to a command that was not sent, one that erases: the command was damaged on its way."""


class ErasedByRefusal(DialectError):
    """The chip refused a password, and erases itself for that. `said` is its answer."""

    def __init__(self, said: str) -> None:
        super().__init__(f"the password is refused ({said}), and a wrong one erases the chip")
        self.said = said


class RefusalKind(Enum):
    """What the chip's refusal means: it is locked; it does not know the command, or not now; it does not accept the
    address; it does not accept the data."""

    LOCKED = "locked"
    UNSUPPORTED = "unsupported"
    BAD_ADDRESS = "bad address"
    BAD_DATA = "bad data"

    @property
    def stage(self) -> str:
        """The part of the command that it follows."""
        return {RefusalKind.BAD_ADDRESS: "address", RefusalKind.BAD_DATA: "data"}.get(self, "command")


class ChipRefusal(DialectError):
    """The chip said no. `answer` are its own bytes, `said` what they mean."""

    def __init__(
        self, command: str, kind: RefusalKind, answer: bytes, address: int | None = None, said: str = ""
    ) -> None:
        at = "" if address is None else f" at {address:08X}"
        super().__init__(f"{said or show_bytes(answer)} after the {kind.stage} of '{command}'{at}")
        self.said = said or show_bytes(answer)
        self.command = command
        self.kind = kind
        self.answer = answer
        self.address = address

    @property
    def at_once(self) -> bool:
        """Whether the command itself was refused: nothing of it was done."""
        return self.kind in (RefusalKind.LOCKED, RefusalKind.UNSUPPORTED)
