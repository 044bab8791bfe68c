"""An upload of which only the port is known: who is there is found out first."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from greenstep.core.chips import Catalogue
from greenstep.core.events import RunEnded, StepEnded
from greenstep.work.board import Board
from greenstep.work.jobs import make_job

from .person import AT_THE_TERMINAL
from .screen import ask_number, can_ask, say
from .survey import greet_unknown

if TYPE_CHECKING:
    from .options import How


def found_out(board: Board, how: How) -> Board:
    """The board with the chip's family, the hookup and the rate that were found. Raises NoAnswerFault, PortFault."""
    bare = Board(board.name, replace(board.said, images=None))
    said = replace(greet_unknown(bare, how).over(board.said), dialect=None)
    found = Board(board.name, said)
    if not can_ask() or found.hookup.by_hand:
        return found
    chip = _which(found)
    return Board(board.name, replace(said, chip=chip)) if chip else found


def _which(board: Board) -> str:
    """The chip, by the person's answer, where several kinds answer alike; empty if the chip itself tells."""
    from greenstep.work.run import Run

    alike: list[str] = []
    for event in Run(make_job("greet", board, AT_THE_TERMINAL), AT_THE_TERMINAL, recorded=False).events():
        if isinstance(event, StepEnded) and event.step == "chip":
            alike = [name for name in str(event.figures.get("one_of", "")).split(",") if name]
        if isinstance(event, RunEnded) and event.exit_code:
            return ""
    if not alike:
        return ""
    say("Several kinds answer alike, and are not written alike. What is on the package?", err=True)
    for number, name in enumerate(alike, 1):
        say(f"  {number}. {Catalogue.load().find(name).title}", err=True)
    return alike[ask_number("Your choice", len(alike)) - 1]
