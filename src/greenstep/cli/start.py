"""`greenstep start`"""

from __future__ import annotations

from typing import Any

import click

from .drive import climb_board
from .options import board_options, general_options, start_options


@click.command("start", short_help="Start the application.")
@click.argument("board", nargs=-1, metavar="[BOARD]")
@board_options
@start_options
@general_options
def command(board: tuple[str, ...], **options: Any) -> int:
    """Start the application: by the lines where the hookup can, else by the bootloader's own command.

    With --expect the text is the evidence; exit status 8 says that it was not heard.
    """
    return climb_board("start", board, options)
