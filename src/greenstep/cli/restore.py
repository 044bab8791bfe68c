"""`greenstep restore`"""

from __future__ import annotations

from typing import Any

import click

from .completing import complete_target
from .drive import climb_board
from .options import board_options, general_options, image_options, start_options, trace_option


@click.command("restore", short_help="Put a backup back.")
@click.argument("target", nargs=-1, metavar="[BOARD] FILE [at ADDRESS]", shell_complete=complete_target)
@board_options
@image_options
@start_options
@click.option("--start/--no-start", default=None, help="Start the application at the end (the usual), or not.")
@trace_option
@general_options
def command(target: tuple[str, ...], **options: Any) -> int:
    """Write back what a backup saved, byte for byte, and read it back: nothing is put into it or judged, and the
    room of a resident bootloader is left as it is. A raw file goes to the start of the flash, or to its address.

    \b
    greenstep restore hive-scale hive-scale-before.hex
    greenstep restore apiary-gateway settings.bin at 0x9000
    greenstep restore hive-scale --eeprom hive-scale.eeprom.bin
    """
    from greenstep.core.errors import usage

    from .faults import faults_as_asked

    with faults_as_asked(bool(options["as_json"])):
        if not options["images"] and not options["eeprom"] and not _names_a_file(target):
            raise usage("no-image", "restore what?", "name the file that backup saved")
    return climb_board("upload", target, options, as_it_was=True)


def _names_a_file(target: tuple[str, ...]) -> bool:
    """Whether there is more than a board: its own images are no backup."""
    from pathlib import Path

    return len(target) > 1 or (len(target) == 1 and Path(target[0]).exists())
