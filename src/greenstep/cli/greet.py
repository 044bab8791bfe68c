"""`greenstep greet`"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import click

from .completing import complete_board
from .drive import climb_board
from .faults import faults_as_asked
from .options import board_options, general_options, trace_option


@click.command("greet", short_help="Say who answers.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@click.option("--any", "anyone", is_flag=True, help="Find the dialect: ask in each, in an order that harms none.")
@board_options
@trace_option
@general_options
def command(board: tuple[str, ...], anyone: bool, **options: Any) -> int:
    """Reset into the bootloader, synchronise, and say who answered. Changes nothing on the chip. With nothing but a
    port, or with --any, it listens first, then tries the common hookups and every dialect.

    \b
    greenstep greet brood-probe
    greenstep greet --port /dev/ttyUSB0
    greenstep greet --any --port /dev/ttyUSB0 --hookup cap-dtr
    greenstep greet --chip stm32 --port /dev/ttyUSB0 --hookup by-hand
    """
    from .target import settle

    with faults_as_asked(bool(options["as_json"])):
        _, said = settle(board, options, port_is_enough=True)
        if anyone or (not said.chip and said.hookup is None):
            from .survey import greet_unknown

            said = replace(said, chip=None, dialect=None) if anyone else said
            trace = options["trace"]
            tried = None if trace is None else trace.with_stem(f"{trace.stem}-survey")
            options.update({"dialect": None, **greet_unknown(said, {**options, "trace": tried})})
    return climb_board("greet", board, options)
