"""`greenstep verify`"""

from __future__ import annotations

import click

from greenstep.store.board import BoardSettings

from .completing import complete_target
from .drive import run_board
from .options import How, board_options, general_options, image_options, trace_option
from .target import settle


@click.command("verify", short_help="Compare the chip with images.")
@click.argument("target", nargs=-1, metavar="[BOARD] [FILE [at ADDRESS]]…", shell_complete=complete_target)
@board_options
@image_options
@trace_option
@general_options
def command(target: tuple[str, ...], said: BoardSettings, how: How) -> int:
    """Compare what the chip holds with the images, byte for byte. Changes nothing on the chip.

    Exit status 0 says equal, 7 different.
    """
    return run_board("verify", settle(target, said, how), how)
