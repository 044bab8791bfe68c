"""`greenstep lock`"""

from __future__ import annotations

import click

from greenstep.store.board import BoardSettings

from .completing import complete_board
from .drive import run_board
from .locks import refuse_without
from .options import How, board_options, general_options, trace_option, wait_option
from .target import settle


@click.command("lock", short_help="Lock the chip against reading.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@board_options
@wait_option
@trace_option
@general_options
def command(board: tuple[str, ...], said: BoardSettings, how: How) -> int:
    """Turn on the chip's readout protection, enter the bootloader again, and check that the chip refuses to be read.

    Unlocking it later erases the whole flash. Fuses, lock bits and other option bytes stay as they are: a bootloader
    does not reach them, a programmer does.
    """
    wanted = settle(board, said, how)
    refuse_without("lock", wanted)
    return run_board("lock", wanted, how)
