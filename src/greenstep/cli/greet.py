"""`greenstep greet`"""

from __future__ import annotations

from dataclasses import replace

import click

from greenstep.store.board import BoardSettings
from greenstep.work.board import Board

from .completing import complete_board
from .drive import run_board
from .options import How, board_options, general_options, show_line_option, trace_option
from .target import settle


@click.command("greet", short_help="Say what answers.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@click.option("--any", "anyone", is_flag=True, help="Find the dialect: ask in each, in an order that harms none.")
@board_options
@show_line_option
@trace_option
@general_options
def command(board: tuple[str, ...], anyone: bool, said: BoardSettings, how: How) -> int:
    """Reset into the bootloader, synchronise, and say what answered. Changes nothing on the chip. With nothing but a
    port, or with --any, it listens first, then tries the common hookups and every dialect.

    \b
    greenstep greet brood-probe
    greenstep greet --port /dev/ttyUSB0
    greenstep greet --any --port /dev/ttyUSB0 --hookup cap-dtr
    greenstep greet --chip stm32 --port /dev/ttyUSB0 --hookup by-hand
    """
    wanted = settle(board, said, how, port_is_enough=True)
    if anyone or (not wanted.said.chip and wanted.said.hookup is None):
        from .survey import greet_unknown

        if anyone:
            wanted = Board(wanted.name, replace(wanted.said, chip=None, dialect=None))
        said = replace(greet_unknown(wanted, how).over(said), dialect=None)
    return run_board("greet", settle(board, said, how), how)
