"""`greenstep start`"""

from __future__ import annotations

from typing import Any

import click

from .completing import complete_board
from .drive import climb_board
from .options import board_options, general_options, start_options, talk_options, trace_option


@click.command("start", short_help="Start the application.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@board_options
@start_options
@talk_options
@click.option("--listen", is_flag=True, help="Stay on the line afterwards.")
@trace_option
@general_options
def command(board: tuple[str, ...], **options: Any) -> int:
    """Start the application: by the lines where the hookup can, else by the bootloader's own command.

    With --expect the text is the evidence; exit status 8 says that it was not heard.
    """
    return climb_board("start", board, options)
