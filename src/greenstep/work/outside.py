"""What moves the pins of a board that no line of its port reaches."""

from __future__ import annotations

from typing import TYPE_CHECKING

from .board import Board

if TYPE_CHECKING:
    from greenstep.core.hookup.other_pins import OutsidePins


def pins_of(board: Board) -> OutsidePins | None:
    """None if its hookup has no such pins. Nothing is moved or taken yet."""
    if not board.hookup.outside:
        return None
    from greenstep.ports.outside_pins import ComputerPins

    return ComputerPins()
