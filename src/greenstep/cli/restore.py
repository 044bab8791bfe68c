"""`greenstep restore`"""

from __future__ import annotations

import click

from greenstep.store.board import BoardSettings

from .completing import complete_target
from .drive import run_board
from .options import How, board_options, general_options, start_options, trace_option, wait_option, written_options
from .target import settle


@click.command("restore", short_help="Put a backup back.")
@click.argument("target", nargs=-1, metavar="[BOARD] FILE [at ADDRESS]", shell_complete=complete_target)
@board_options
@written_options
@start_options
@click.option("--start/--no-start", default=None, help="Start the application at the end (default), or not.")
@wait_option
@trace_option
@general_options
def command(target: tuple[str, ...], said: BoardSettings, how: How) -> int:
    """Write back what backup saved, byte for byte, and read it back. Nothing is added or judged, and a resident
    bootloader is left alone. A raw file goes to the start of the flash, or to the address you give.

    \b
    greenstep restore hive-scale hive-scale-before.hex
    greenstep restore apiary-gateway settings.bin at 0x9000
    greenstep restore hive-scale --eeprom hive-scale.eeprom.bin
    """
    from greenstep.core.errors import usage

    if not said.images and not _names_a_file(target):
        raise usage("no-image", "restore what?", "name the file that backup saved")
    return run_board("upload", settle(target, said, how), how, as_it_was=True)


def _names_a_file(target: tuple[str, ...]) -> bool:
    """Whether there is more than a board: its own images are no backup."""
    from pathlib import Path

    return len(target) > 1 or (len(target) == 1 and Path(target[0]).exists())
