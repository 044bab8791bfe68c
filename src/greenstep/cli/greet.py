"""`greenstep greet`"""

from __future__ import annotations

from typing import Any

import click

from .drive import climb_board
from .options import board_options, general_options


@click.command("greet", short_help="Say who answers.")
@click.argument("board", nargs=-1, metavar="[BOARD]")
@board_options
@general_options
def command(board: tuple[str, ...], **options: Any) -> int:
    """Reset into the bootloader, synchronise, and say who answered. Changes nothing on the chip.

    \b
    greenstep greet brood-probe
    greenstep greet --chip stm32 --port /dev/ttyUSB0 --hookup by-hand
    """
    return climb_board("greet", board, options)
