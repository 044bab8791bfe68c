"""A board's own moves run once, to reset it, and what is heard after them."""

from __future__ import annotations

from pathlib import Path

from greenstep.core.frozen import frozen
from greenstep.core.hookup import Driver, Sequence
from greenstep.core.link import LineSettings
from greenstep.core.survey.meaning import Meaning, meaning_of

from .board import Board
from .person import Person
from .port_choice import link_faults, open_board_port

_LISTEN_S = 1.5


@frozen
class Moved:
    """What was run, and what was heard after it at `settings`."""

    sequence: Sequence
    settings: LineSettings
    meaning: Meaning


def moves_of(board: Board, into_loader: bool) -> Sequence | None:
    """The moves into the bootloader or into the application; None if a person does it."""
    return board.hookup.enter if into_loader else board.hookup.leave


def hand_moves_of(board: Board, into_loader: bool) -> tuple[str, ...]:
    """What a person does instead, in order."""
    hands = board.choice.hands
    return hands.enter if into_loader else hands.leave


def run_moves(board: Board, sequence: Sequence, person: Person, trace: Path | None = None) -> Moved:
    """Run the moves once and listen at the application's rate. Asks nothing and writes nothing. Raises PortFault."""
    settings = LineSettings(board.said.console_baud or board.baud)
    link = open_board_port(board, settings, board.hookup.idle_lines, person, trace).link
    try:
        with link_faults(board):
            link.discard()
            Driver(link, board.hookup).run(sequence)
            heard = link.read(400, _LISTEN_S)
    finally:
        link.close()
    return Moved(sequence, settings, meaning_of(heard, settings))
