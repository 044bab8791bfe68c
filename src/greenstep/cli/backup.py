"""`greenstep backup`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from greenstep.store.board import BoardSettings
from greenstep.work.backing_up import save_backup
from greenstep.work.board import Board

from .completing import complete_board
from .drive import run_board
from .options import How, board_options, general_options, region_options, trace_option
from .screen import say
from .target import settle

if TYPE_CHECKING:
    from greenstep.work.run import Run


@click.command("backup", short_help="Save what the chip holds.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@click.option(
    "--save", type=click.Path(path_type=Path, dir_okay=False), required=True, metavar="FILE",
    help="Where to: raw, or by its ending Intel HEX, S-record, TI-TXT.",
)  # fmt: skip
@click.option("--memory", default="flash", metavar="NAME", help="flash or eeprom. [flash]")
@click.option("--replace", is_flag=True, help="Replace a file that is there.")
@region_options
@board_options
@trace_option
@general_options
def command(
    board: tuple[str, ...], save: Path, memory: str, replace: bool, region_from: int | None, region_size: int | None,
    said: BoardSettings, how: How,
) -> int:  # fmt: skip
    """Read the chip's memory, twice, and save it. Changes nothing on the chip.

    \b
    greenstep backup hive-scale --save hive-scale-before.hex
    greenstep backup apiary-gateway --from 0x9000 --size 24K --save hives.hex
    greenstep backup hive-scale --memory eeprom --save hive-scale.eeprom.bin

    It goes back with greenstep restore.
    """
    return back_up(settle(board, said, how), save, replace, (memory, region_from, region_size), how)


def back_up(board: Board, save: Path, replace: bool, region: tuple[str, int | None, int | None], how: How) -> int:
    """The run, and the file at its end. Returns the exit status. Raises UsageFault."""
    from greenstep.store.image_saving import check_place

    check_place(save, replace)

    def keep(run: Run) -> None:
        said = save_backup(run, save)
        if not how.as_json:
            say(f" saved as {save}{said}")

    return run_board("backup", board, how, region, keep)
