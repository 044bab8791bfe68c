"""`greenstep batch`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from greenstep.core.image.patch import FORM
from greenstep.store.board import BoardSettings

from .completion import complete_target
from .options import (
    How,
    Real,
    Whole,
    batch_board_options,
    general_options,
    image_options,
    sparing_options,
    start_options,
    talk_options,
)

if TYPE_CHECKING:
    from greenstep.core.batch.board_values import BoardValues


@click.command("batch", short_help="The same images into many boards.")
@click.argument("target", nargs=-1, metavar="[BOARD] [FILE [at ADDRESS]]…", shell_complete=complete_target)
@click.option("--port", "ports", multiple=True, metavar="PORT", help="A port; several are served at once.")
@click.option("--each-new-port", is_flag=True, help="Serve every port that is plugged in from now on.")
@click.option(
    "--again/--once",
    default=None,
    help="Wait for the next board on the same port (default with one port), or serve each port once.",
)
@click.option("--count", "number", type=Whole(1, 100_000), metavar="N", help="End after so many boards.")
@click.option(
    "--wait", "wait_s", type=Real(0.5, 86400), metavar="SECONDS", help="How long to wait for the next board."
)
@click.option(
    "--save", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE", help="Results, .csv or .json."
)
@click.option("--replace", is_flag=True, help="Let --save replace a file.")
@click.option(
    "--values",
    "rows",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="A CSV file whose next row is this board's: each heading is a field, as {serial}.",
)
@click.option(
    "--count-from",
    type=Whole(0, (1 << 63) - 1),
    metavar="NUMBER",
    help="A counter as the field {count}: from this number on, or after the last that was given.",
)
@click.option(
    "--patch",
    multiple=True,
    metavar=FORM,
    help="Put a board's own into the image: '0x7C=\"{serial}\\0\"', '0x7C={count:u32}', 'eeprom:0=…'.",
)
@click.option(
    "--series", metavar="NAME", help="A value is given once in each series. [the board's name, else the chip's]"
)
@click.option("--bell/--no-bell", default=True, help="Sound the terminal's bell for each board.")
@batch_board_options
@image_options
@sparing_options
@start_options
@talk_options
@general_options
def batch_command(
    target: tuple[str, ...],
    ports: tuple[str, ...],
    each_new_port: bool,
    again: bool | None,
    number: int | None,
    wait_s: float | None,
    save: Path | None,
    replace: bool,
    bell: bool,
    rows: Path | None,
    count_from: int | None,
    patch: tuple[str, ...],
    series: str | None,
    settings: BoardSettings,
    how: How,
) -> int:
    """Upload into one board after another, or into several at once. With one port: waits until a board answers,
    uploads, says so, and waits for the next. Ctrl-C starts no further board; boards under way are finished.

    \b
    greenstep batch brood-probe --save probes.csv
    greenstep batch brood-probe --port /dev/ttyUSB0 --port /dev/ttyUSB1
    greenstep batch hive-scale --each-new-port --count 16
    greenstep batch hive-scale --values scales.csv --patch '0x90="{serial}"'

    Exit status: 0 if every board ended well, else that of the first that did not.
    """
    from greenstep.store.csv_files import check_results_file
    from greenstep.work.batching import BatchRun, orders_for

    from .batch_view import make_batch_view
    from .prompts import AT_THE_TERMINAL
    from .target import settle

    board = settle(target, settings, how)
    values = _values(rows, count_from, patch, series or board.name or board.choice.title)
    orders = orders_for(board, ports, each_new_port, again, AT_THE_TERMINAL, wait_s, number, save, values)
    if save is not None:
        check_results_file(save, replace)
    return BatchRun(orders, make_batch_view(how.as_json, bell)).run()


def _values(rows: Path | None, count_from: int | None, patch: tuple[str, ...], series: str) -> BoardValues | None:
    """What each board has for itself; None if nothing. Raises UsageFault."""
    from greenstep.core.batch.board_values import COUNT, BoardValues
    from greenstep.core.errors import usage
    from greenstep.core.image.patch import parse_patch
    from greenstep.store.csv_files import read_rows
    from greenstep.store.given_values import values_file

    if rows is None and count_from is None:
        if patch:
            alike = "for all boards alike: greenstep image convert --patch"
            raise usage("field", "--patch puts in what each board has for itself", "--values, --count-from", alike)
        return None
    patches = []
    for text in patch:
        try:
            patches.append(parse_patch(text))
        except ValueError as error:
            raise usage("patch", f"--patch {text}: {error}", f"write {FORM}: '0x7C=\"{{serial}}\"'") from None
    table = read_rows(rows) if rows is not None else ()
    if table and COUNT in table[0] and count_from is not None:
        raise usage("values", f"{rows}: a heading {COUNT}, and --count-from", "name it otherwise")
    values_file()
    return BoardValues(series, table, count_from, tuple(patches))
