"""`greenstep reset`"""

from __future__ import annotations

import click

from greenstep.store.board import BoardSettings

from .completing import complete_board
from .options import RATE, How, general_options, open_options, trace_option
from .resetting import move_once
from .target import settle


@click.command("reset", short_help="Reset into the application, or the bootloader.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@click.option("--into-loader", is_flag=True, help="Into the bootloader, instead of the application.")
@open_options
@click.option("--console-baud", type=RATE, metavar="RATE", help="Rate at which to listen afterwards. [--baud]")
@trace_option
@general_options
def command(board: tuple[str, ...], into_loader: bool, said: BoardSettings, how: How) -> int:
    """Reset the board by its lines, into the application or with --into-loader into the bootloader, and tell what is
    heard. Asks nothing and writes nothing.

    \b
    greenstep reset hive-scale
    greenstep reset brood-probe --into-loader
    """
    return move_once(settle(board, said, how), into_loader, how, "reset")
