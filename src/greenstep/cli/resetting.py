"""A board's moves run once, for `reset` and `hookup try`."""

from __future__ import annotations

from typing import TYPE_CHECKING

from greenstep.work.resetting import hand_moves_of, moves_of, run_moves

from .person import AT_THE_TERMINAL
from .screen import say

if TYPE_CHECKING:
    from greenstep.core.hookup import Sequence
    from greenstep.work.board import Board

    from .options import How


def move_once(board: Board, into_loader: bool, how: How, event: str) -> int:
    """Run the moves and tell what was heard, or how to do it by hand."""
    sequence = moves_of(board, into_loader)
    if sequence is None:
        return by_hand(board, into_loader, how, None)
    moved = run_moves(board, sequence, AT_THE_TERMINAL, how.trace)
    if how.as_json:
        from .json_view import json_line

        kind, words = ("lent", "") if moved.lent else (moved.meaning.kind, moved.meaning.words)
        json_line(event, sequence=str(sequence), kind=kind, heard=words)
        return 0
    if moved.lent:
        say(f"{sequence}", "the console that lent its port listens again")
        return 0
    say(f"{sequence}", f"{moved.settings}: {moved.meaning.words}")
    if moved.meaning.kind == "nothing" and into_loader:
        say("a bootloader that waits is silent: greenstep greet asks it")
    return 0


def by_hand(board: Board, into_loader: bool, how: How, sequence: Sequence | None) -> int:
    """No line reaches reset: what a person does is the sequence."""
    moves = hand_moves_of(board, into_loader)
    if how.as_json:
        from .json_view import json_line

        json_line("by-hand", moves=moves)
        return 0
    say(f"{board.hookup.name}: no line moves reset" + (f"; {sequence}" if sequence else "; by hand it is:"))
    for number, move in enumerate(moves, 1):
        say(f"  {number}. {move}")
    return 0
