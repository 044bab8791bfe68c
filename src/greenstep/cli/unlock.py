"""`greenstep unlock`"""

from __future__ import annotations

from typing import Any

import click

from .completing import complete_board
from .consent import consented
from .drive import climb_board
from .faults import faults_as_asked
from .locks import refuse_without
from .options import board_options, general_options, trace_option


@click.command("unlock", short_help="Unlock the chip; this erases it.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@click.option("--writes", is_flag=True, help="Lift the write protection of erase units instead; erases nothing.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@board_options
@trace_option
@general_options
def command(board: tuple[str, ...], writes: bool, yes: bool, **options: Any) -> int:
    """Turn the chip's readout protection off, which erases the whole flash (on STM32L0 and L1 the EEPROM too), enter
    again, and see that it lets itself be read.

    With --writes it is the protection of erase units against writing that is lifted: the chip resets itself, and
    nothing is erased.
    """
    with faults_as_asked(bool(options["as_json"])):
        refuse_without("unlock", board, options, writes)
        if writes:
            consented("Lift the write protection? The chip resets itself; nothing is erased.", yes)
        else:
            consented("Unlock the chip? All that is in its flash is lost.", yes)
    return climb_board("unlock", board, options, writes_only=writes)
