"""The person who runs it, as far as the work has to know; and what moves the pins of a board that no line of its port
reaches."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from greenstep.core.errors import usage
from greenstep.core.frozen import frozen
from greenstep.core.safety.harmless_text import harmless

from .board import Board

if TYPE_CHECKING:
    from greenstep.core.hookup.other_pins import OutsidePins


@frozen
class Prompter:
    """`tell` takes a remark that is no event of a run: a journal that cannot be written, a trace cut short. `secret`
    asks for the secret with a name that is not in the environment; it raises UsageFault if nobody can be asked.
    `is_there`: somebody looks on, who can set a boot pin back when told to."""

    tell: Callable[[str], None]
    secret: Callable[[str], str]
    is_there: bool = False


def _log(text: str) -> None:
    import logging

    logging.getLogger("greenstep").warning("%s", harmless(text))


def _no_secret(name: str) -> str:
    raise usage("secret", f"the secret {name} is not in the environment", f"set {name}, or run in a terminal")


NON_INTERACTIVE = Prompter(_log, _no_secret)
"""For programs: remarks go to the logger `greenstep`."""


def pins_of(board: Board) -> OutsidePins | None:
    """None if its hookup has no such pins. Nothing is moved or taken yet."""
    if not board.hookup.outside:
        return None
    from greenstep.ports.outside_pins import ComputerPins

    return ComputerPins()
