"""`greenstep erase`"""

from __future__ import annotations

from typing import Any

import click

from .completing import complete_board
from .consent import consented
from .drive import climb_board
from .faults import faults_as_asked
from .options import board_options, general_options, region_options, trace_option


@click.command("erase", short_help="Make the flash, or room of it, blank.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@region_options
@click.option("--yes", is_flag=True, help="Do not ask.")
@board_options
@trace_option
@general_options
def command(
    board: tuple[str, ...], region_from: int | None, region_size: int | None, yes: bool, **options: Any
) -> int:
    """Erase the flash below the bootloader, or whole erase units of it, and read back that it is blank.

    \b
    greenstep erase brood-probe
    greenstep erase apiary-gateway --from 0x9000 --size 0x6000
    """
    what = "all that an application may use" if region_from is None and region_size is None else "that room"
    with faults_as_asked(bool(options["as_json"])):
        consented(f"Erase {what}?", yes)
    return climb_board("erase", board, options, ("flash", region_from, region_size))
