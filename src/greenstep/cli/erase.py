"""`greenstep erase`"""

from __future__ import annotations

import click

from greenstep.store.board import BoardSettings

from .completing import complete_board
from .consent import consented
from .drive import run_board
from .options import How, board_options, general_options, region_options, trace_option
from .target import settle


@click.command("erase", short_help="Make the flash, or part of it, blank.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@click.option("--memory", default="flash", metavar="NAME", help="Which memory: flash or eeprom. [flash]")
@region_options
@click.option("--yes", is_flag=True, help="Do not ask.")
@board_options
@trace_option
@general_options
def command(
    board: tuple[str, ...], memory: str, region_from: int | None, region_size: int | None, yes: bool,
    said: BoardSettings, how: How,
) -> int:  # fmt: skip
    """Erase the flash below the bootloader, the EEPROM, or whole erase units of either, and read back that it is
    blank.

    \b
    greenstep erase brood-probe
    greenstep erase apiary-gateway --from 0x9000 --size 0x6000
    greenstep erase hive-scale --memory eeprom
    """
    everything = "all that an application may use" if memory == "flash" else f"the whole {memory}"
    what = everything if region_from is None and region_size is None else f"that region of the {memory}"
    consented(f"Erase {what}?", yes)
    return run_board("erase", settle(board, said, how), how, (memory, region_from, region_size))
