"""A board's own moves run once, to reset it, and what is heard after them."""

from __future__ import annotations

from pathlib import Path

from greenstep.core.frozen import frozen
from greenstep.core.hookup import Driver, Sequence
from greenstep.core.link import LineSettings
from greenstep.core.survey.heard import Meaning, meaning_of

from .board import Board
from .outside import pins_of
from .person import Person
from .port_choice import link_faults, loan_of, open_board_port, port_name

_LISTEN_S = 1.5


@frozen
class Moved:
    """What was run, and what was heard after it at `settings`. `lent`: a console lent its port, and hears the
    rest."""

    sequence: Sequence
    settings: LineSettings
    meaning: Meaning
    lent: bool = False


def moves_of(board: Board, into_loader: bool) -> Sequence | None:
    """The moves into the bootloader or into the application; None if a person does it."""
    return board.hookup.enter if into_loader else board.hookup.leave


def hand_moves_of(board: Board, into_loader: bool) -> tuple[str, ...]:
    """What a person does instead, in order."""
    return board.hands.enter if into_loader else board.hands.leave


def run_moves(board: Board, sequence: Sequence, person: Person, trace: Path | None = None) -> Moved:
    """Run the moves once and listen at the application's rate. Asks nothing and writes nothing. Raises PortFault."""
    settings = LineSettings(board.said.console_baud or board.baud)
    loan = loan_of(port_name(board.said.port), f"reset {board.name}".strip())
    pins = pins_of(board)
    lent, heard = loan is not None and loan.ask(), b""
    try:
        link = open_board_port(board, settings, board.hookup.idle_lines, person, trace).link
        try:
            with link_faults(board):
                link.discard()
                Driver(link, board.hookup, pins).run(sequence)
                heard = b"" if lent else link.read(400, _LISTEN_S)
                if loan is not None:
                    loan.tell("done", link.discard())
        finally:
            link.close()
    finally:
        if pins is not None:
            pins.close()
        if loan is not None:
            loan.give_back()
    return Moved(sequence, settings, meaning_of(heard, settings), lent)
