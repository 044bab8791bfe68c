"""`greenstep start`"""

from __future__ import annotations

import click

from greenstep.store.board import BoardSettings

from .completing import complete_board
from .drive import run_board
from .options import How, board_options, general_options, start_options, talk_options, trace_option, wait_option
from .target import settle


@click.command("start", short_help="Start the application.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@board_options
@start_options
@talk_options
@click.option("--listen", is_flag=True, help="Stay on the line afterwards.")
@wait_option
@trace_option
@general_options
def command(board: tuple[str, ...], said: BoardSettings, how: How) -> int:
    """Start the application: by the lines where the hookup can, else by the bootloader's own command.

    With --expect the text is the evidence; exit status 8 says that it was not heard.
    """
    return run_board("start", settle(board, said, how), how)
