"""`greenstep verify`"""

from __future__ import annotations

import click

from greenstep.store.board import BoardSettings

from .completing import complete_target
from .drive import run_board
from .options import How, board_options, general_options, looked_at_options, region_options, trace_option
from .target import settle


@click.command("verify", short_help="Compare the chip with images.")
@click.argument("target", nargs=-1, metavar="[BOARD] [FILE [at ADDRESS]]…", shell_complete=complete_target)
@click.option("--blank", is_flag=True, help="That nothing is there, instead of an image.")
@click.option("--memory", metavar="NAME", help="With --blank: flash or eeprom. [flash]")
@region_options
@board_options
@looked_at_options
@trace_option
@general_options
def command(
    target: tuple[str, ...], blank: bool, memory: str | None, region_from: int | None, region_size: int | None,
    said: BoardSettings, how: How,
) -> int:  # fmt: skip
    """Compare what the chip holds with the images, byte for byte, or with --blank that a memory or a region of it is
    blank. Changes nothing on the chip.

    Exit status 0 says equal, 7 different.
    """
    if not blank and (memory, region_from, region_size) != (None, None, None):
        raise click.UsageError("--memory, --from and --size go with --blank.")
    region = (memory or "flash", region_from, region_size)
    return run_board("verify", settle(target, said, how), how, region, blank=blank)
