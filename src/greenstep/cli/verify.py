"""`greenstep verify`"""

from __future__ import annotations

from typing import Any

import click

from .completing import complete_target
from .drive import climb_board
from .options import board_options, general_options, image_options, trace_option


@click.command("verify", short_help="Compare the chip with images.")
@click.argument("target", nargs=-1, metavar="[BOARD] [FILE [at ADDRESS]]…", shell_complete=complete_target)
@board_options
@image_options
@trace_option
@general_options
def command(target: tuple[str, ...], **options: Any) -> int:
    """Compare what the chip holds with the images, byte for byte. Changes nothing on the chip.

    Exit status 0 says equal, 7 different.
    """
    return climb_board("verify", target, options)
