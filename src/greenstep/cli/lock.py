"""`greenstep lock`"""

from __future__ import annotations

from typing import Any

import click

from .completing import complete_board
from .drive import climb_board
from .faults import faults_as_asked
from .locks import refuse_without
from .options import board_options, general_options, trace_option


@click.command("lock", short_help="Lock the chip against reading.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@board_options
@trace_option
@general_options
def command(board: tuple[str, ...], **options: Any) -> int:
    """Turn the chip's readout protection on, enter again, and see that it refuses to be read.

    Unlocking erases the whole flash.
    """
    with faults_as_asked(bool(options["as_json"])):
        refuse_without("lock", board, options)
    return climb_board("lock", board, options)
