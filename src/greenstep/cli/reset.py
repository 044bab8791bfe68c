"""`greenstep reset` and `start`; and a board's moves run once, for `reset` and `hookup try`."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from greenstep.store.board import BoardSettings

from .completion import complete_board
from .drive import run_board
from .options import (
    RATE,
    How,
    board_options,
    general_options,
    open_options,
    start_options,
    talk_options,
    trace_option,
    wait_option,
)
from .prompts import AT_THE_TERMINAL
from .screen import say
from .target import settle

if TYPE_CHECKING:
    from greenstep.core.hookup.sequence import Sequence
    from greenstep.work.board import Board

    from .options import How


def move_once(board: Board, into_loader: bool, how: How, event: str) -> int:
    """Run the moves and tell what was heard, or how to do it by hand."""
    from greenstep.work.resetting import moves_of, run_moves

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
    from greenstep.work.resetting import hand_moves_of

    moves = hand_moves_of(board, into_loader)
    if how.as_json:
        from .json_view import json_line

        json_line("by-hand", moves=moves)
        return 0
    say(f"{board.hookup.name}: no line moves reset" + (f"; {sequence}" if sequence else "; by hand it is:"))
    for number, move in enumerate(moves, 1):
        say(f"  {number}. {move}")
    return 0


@click.command("reset", short_help="Reset into the application, or the bootloader.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@click.option("--into-loader", is_flag=True, help="Into the bootloader, instead of the application.")
@open_options
@click.option("--console-baud", type=RATE, metavar="RATE", help="Rate at which to listen afterwards. [--baud]")
@trace_option
@general_options
def reset_command(board: tuple[str, ...], into_loader: bool, settings: BoardSettings, how: How) -> int:
    """Reset the board by its lines, into the application or with --into-loader into the bootloader, and tell what is
    heard. Asks nothing and writes nothing.

    \b
    greenstep reset hive-scale
    greenstep reset brood-probe --into-loader
    """
    return move_once(settle(board, settings, how), into_loader, how, "reset")


@click.command("start", short_help="Start the application.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@board_options
@start_options
@talk_options
@click.option("--listen", is_flag=True, help="Stay on the line afterwards.")
@wait_option
@trace_option
@general_options
def start_command(board: tuple[str, ...], settings: BoardSettings, how: How) -> int:
    """Start the application: by the lines where the hookup can, else by the bootloader's own command.

    With --expect the text is the evidence; exit status 8 says that it was not heard.
    """
    return run_board("start", settle(board, settings, how), how)
