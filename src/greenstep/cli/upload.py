"""`greenstep upload`"""

from __future__ import annotations

from typing import Any

import click

from .drive import climb_board
from .options import board_options, general_options, image_options, start_options


@click.command("upload", short_help="Write images, read them back, start.")
@click.argument("target", nargs=-1, metavar="[BOARD] [FILE [at ADDRESS]]…")
@board_options
@image_options
@start_options
@click.option(
    "--verify/--no-verify",
    default=None,
    envvar="GREENSTEP_VERIFY",
    help="Read back what was written (the usual), or leave it unproven.",
)
@click.option(
    "--start/--no-start",
    default=None,
    envvar="GREENSTEP_START",
    help="Start the application at the end (the usual), or not.",
)
@general_options
def command(target: tuple[str, ...], **options: Any) -> int:
    """Write images into the chip, read them back, and start the application.

    \b
    greenstep upload brood-probe
    greenstep upload scale.hex --chip atmega328p --port /dev/ttyUSB0
    greenstep upload probe.bin at 0x08004000 --chip stm32f072rb --hookup by-hand

    Exit status: 0 green (or written and, as asked, not verified); 2 usage or project file; 3 port;
    4 no bootloader answered; 5 refused before writing; 6 erase or write failed; 7 verify failed;
    8 the expected text was not heard; 130 interrupted.
    """
    return climb_board("upload", target, options)
