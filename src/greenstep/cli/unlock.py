"""`greenstep unlock`"""

from __future__ import annotations

import click

from greenstep.store.board import BoardSettings

from .completing import complete_board
from .consent import consented
from .drive import run_board
from .locks import refuse_without
from .options import How, board_options, general_options, trace_option, wait_option
from .target import settle


@click.command("unlock", short_help="Unlock the chip; this erases it.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@click.option("--writes", is_flag=True, help="Lift the write protection of erase units instead; erases nothing.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@board_options
@wait_option
@trace_option
@general_options
def command(board: tuple[str, ...], writes: bool, yes: bool, said: BoardSettings, how: How) -> int:
    """Turn off the chip's readout protection, which erases the whole flash (on STM32L0 and L1 the EEPROM too), enter
    the bootloader again, and check that the chip can be read.

    With --writes, lift the write protection of erase units instead: the chip resets itself, and nothing is erased.
    """
    wanted = settle(board, said, how)
    refuse_without("unlock", wanted, writes)
    if writes:
        consented("Lift the write protection? The chip resets itself; nothing is erased.", yes)
    else:
        consented("Unlock the chip? Everything in its flash is lost.", yes)
    return run_board("unlock", wanted, how, writes_only=writes)
