"""`greenstep dump`"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import click

from greenstep.store.board import BoardSettings

from .completing import complete_board
from .drive import run_board
from .image_dump import dumped
from .options import How, board_options, general_options, region_options, trace_option
from .target import settle

if TYPE_CHECKING:
    from greenstep.work.run import Run

_USUAL_BYTES = 256


@click.command("dump", short_help="Bytes of a live chip, in hexadecimal and as text.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@click.option("--memory", default="flash", metavar="NAME", help="flash or eeprom. [flash]")
@region_options
@click.option("--bytes", "as_bytes", is_flag=True, help="Bytes, not instruction words.")
@click.option("--all", "everything", is_flag=True, help="Blank rows too.")
@board_options
@trace_option
@general_options
def command(
    board: tuple[str, ...], memory: str, region_from: int | None, region_size: int | None, as_bytes: bool,
    everything: bool, said: BoardSettings, how: How,
) -> int:  # fmt: skip
    """Read some of the chip's memory, twice, and show it: the chip's instruction words with their addresses, and the
    text in them. Without --size, 256 bytes. Changes nothing on the chip, and writes no file.

    \b
    greenstep dump hive-scale --from 0x68
    greenstep dump apiary-gateway --from 0x9000 --size 1K --bytes
    """
    from greenstep.core.image import Image

    wanted = settle(board, said, how)
    region = (memory, region_from, region_size or _USUAL_BYTES)

    def show(run: Run) -> None:
        part = run.outcome.part
        image = Image(memory, run.outcome.backup)
        dumped(image, part.core if part is not None and memory == "flash" else "", as_bytes, everything, how.as_json)

    return run_board("backup", wanted, replace(how, ladder="short"), region, show, recorded=False)
