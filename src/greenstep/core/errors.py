"""The faults in which Green Step can end: one class per exit code, each with the findings that a person is shown.

Faults between a dialect and the line (`core.dialects.errors`) are another family: the ladder catches them, knows what
was heard before, and can therefore say what they mean.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import ClassVar, Literal, Self

from .frozen import frozen
from .suggestions import nearest

Certainty = Literal["certain", "likely", "possible"]


@frozen
class Finding:
    """A cause read from evidence.

    `key` names the situation for programs; `cause` is one line in plain words; `evidence` quotes what was observed;
    `attempts` is what to try, most promising first.
    """

    key: str
    cause: str
    evidence: tuple[str, ...] = ()
    attempts: tuple[str, ...] = ()
    certainty: Certainty = "certain"


class Fault(Exception):
    """Something ended the work. `exit_code` is the command's exit status."""

    exit_code: ClassVar[int] = 1

    def __init__(self, *findings: Finding) -> None:
        if not findings:
            raise ValueError("a fault carries at least one finding")
        super().__init__(findings[0].cause)
        self.findings = findings

    @classmethod
    def of(
        cls,
        key: str,
        cause: str,
        evidence: tuple[str, ...] = (),
        attempts: tuple[str, ...] = (),
        certainty: Certainty = "certain",
    ) -> Self:
        """A fault with one finding, of these fields."""
        return cls(Finding(key, cause, evidence, attempts, certainty))

    @property
    def finding(self) -> Finding:
        """The most likely finding."""
        return self.findings[0]


class UsageFault(Fault):
    """The command line or the project file asks for something impossible."""

    exit_code = 2


class PortFault(Fault):
    """The serial port is missing, held, forbidden, or disappeared."""

    exit_code = 3


class NoAnswerFault(Fault):
    """No bootloader answered."""

    exit_code = 4


class RefusedFault(Fault):
    """Refused before anything was changed: the image, the chip or its protection does not allow it."""

    exit_code = 5


class WriteFault(Fault):
    """Erasing or writing failed: the chip's content is incomplete."""

    exit_code = 6


class VerifyFault(Fault):
    """What the chip holds is not what should have been written."""

    exit_code = 7


class StartFault(Fault):
    """The application did not send the text that proves it runs."""

    exit_code = 8


EXIT_INTERRUPTED = 130


def check_keys(table: Iterable[str], known: Sequence[str], where: str, key: str) -> None:
    """Raise UsageFault for an unknown key, with the nearest known one. `where` names the table."""
    for name in table:
        if name not in known:
            near = nearest(name, known)
            hint = f"did you mean '{near[0]}'?" if near else f"it has {', '.join(known)}"
            raise usage(key, f"{where} has no '{name}'", hint)


def usage(key: str, cause: str, *attempts: str, evidence: tuple[str, ...] = ()) -> UsageFault:
    """A `UsageFault` with one finding."""
    return UsageFault.of(key, cause, evidence, attempts)
