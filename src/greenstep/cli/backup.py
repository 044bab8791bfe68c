"""`greenstep backup`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .completing import complete_board
from .drive import Settled, climb_board
from .faults import faults_as_asked
from .options import board_options, general_options, region_options, trace_option

if TYPE_CHECKING:
    from greenstep.core.climb import Climb


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
    **options: Any,
) -> int:  # fmt: skip
    """Read the chip's memory, twice, and save it. Changes nothing on the chip.

    \b
    greenstep backup hive-scale --save hive-scale-before.hex
    greenstep backup apiary-gateway --from 0x9000 --size 0x6000 --save settings.hex
    greenstep backup hive-scale --memory eeprom --save hive-scale.eeprom.bin

    It goes back with greenstep restore.
    """
    return back_up(board, save, replace, (memory, region_from, region_size), options)


def back_up(
    words: tuple[str, ...],
    save: Path,
    replace: bool,
    region: tuple[str, int | None, int | None],
    options: dict[str, Any],
    settled: Settled | None = None,
) -> int:
    """The climb, and the file at its end. Returns the exit status. Raises UsageFault."""
    from greenstep.store.image_saving import check_place

    with faults_as_asked(bool(options["as_json"])):
        check_place(save, replace)

    def keep(climb: Climb) -> None:
        said = _save(climb, save, region[0])
        if not options["as_json"]:
            click.echo(f" saved as {save}{said}")

    return climb_board("backup", words, options, region, keep, settled=settled)


def _save(climb: Climb, save: Path, memory: str) -> str:
    """Write the file in the format of its ending, raw where that names none. Returns what to know of it."""
    from greenstep.core.errors import UsageFault
    from greenstep.core.image import Image
    from greenstep.store.image_saving import kind_for, save_image

    memory_of_it = (climb.outcome.part or climb.job.choice.first).memory(memory)
    try:
        kind = kind_for(save, None)
    except UsageFault:
        kind = "raw"
    image = Image(save.name, climb.outcome.backup)
    save_image(save, image, kind, memory_of_it.erased, 16)
    low = image.lowest
    return f", which belongs at 0x{low:X}" if kind == "raw" and low != memory_of_it.start else ""
