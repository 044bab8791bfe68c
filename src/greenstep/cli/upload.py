"""`greenstep upload`"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from .completing import complete_target
from .drive import Settled, climb_board
from .faults import faults_as_asked
from .options import (
    board_options,
    general_options,
    image_options,
    ladder_option,
    sparing_options,
    start_options,
    talk_options,
    trace_option,
)


@click.command("upload", short_help="Write images, read them back, start.")
@click.argument("target", nargs=-1, metavar="[BOARD] [FILE [at ADDRESS]]…", shell_complete=complete_target)
@board_options
@image_options
@start_options
@sparing_options
@talk_options
@click.option("--listen", is_flag=True, help="Stay on the line after a green upload.")
@click.option("--if-changed", is_flag=True, help="Read first: where the chip holds these very bytes, write nothing.")
@click.option("--backup-first", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
              help="Save what the flash holds before anything is changed.")  # fmt: skip
@ladder_option
@trace_option
@general_options
def command(target: tuple[str, ...], if_changed: bool, backup_first: Path | None, **options: Any) -> int:
    """Write images into the chip, read them back, and start the application.

    \b
    greenstep upload brood-probe
    greenstep upload scale.hex --chip atmega328p --port /dev/ttyUSB0
    greenstep upload hive-scale-2.4.kit
    greenstep upload probe.bin at 0x08004000 --chip stm32f072rb --hookup by-hand

    Exit status: 0 green (or written and, as asked, not verified); 2 usage or project file; 3 port;
    4 no bootloader answered; 5 refused before writing; 6 erase or write failed; 7 verify failed;
    8 the expected text was not heard; 130 interrupted.
    """
    as_json = bool(options["as_json"])
    if target and Path(target[0]).is_file():
        from greenstep.store.kit import is_kit

        if is_kit(Path(target[0])):
            from .kit_upload import upload_kit

            with faults_as_asked(as_json):
                _refuse_beside_a_kit(options)
            return upload_kit(target, options, lambda board: upload_settled(board, options, if_changed, backup_first))
    from .target import settle

    with faults_as_asked(as_json):
        settled = settle(target, options)
    return upload_settled(settled, options, if_changed, backup_first)


def upload_settled(settled: Settled, options: dict[str, Any], if_changed: bool, backup_first: Path | None) -> int:
    """Ask whether it is there, back up, upload, listen: as is wanted. Returns the exit status."""
    if if_changed:
        from .unchanged import is_there_already

        if is_there_already(settled, options):
            return climb_board("start", (), options, settled=settled) if options["listen"] else 0
    if backup_first is not None:
        status = _back_up(settled, backup_first, options)
        if status:
            return status
    return climb_board("upload", (), options, settled=settled)


def _refuse_beside_a_kit(options: dict[str, Any]) -> None:
    """A kit brings its own images. Raises UsageFault."""
    from greenstep.core.errors import usage

    named = ", ".join(f"--{name}" for name in ("eeprom", "images") if options[name])
    if named:
        raise usage("kit-option", f"{named} does not go with a kit, which brings its images", "leave it out")


def _back_up(settled: Settled, save: Path, options: dict[str, Any]) -> int:
    """The whole flash into a file. The images are read before: an upload that lacks one begins nothing. Returns the
    exit status."""
    from .backup import back_up
    from .jobs import load_images
    from .target import find_chip

    with faults_as_asked(bool(options["as_json"])):
        load_images(settled[1], find_chip(settled[1]))
    status = back_up((), save, False, ("flash", None, None), {**options, "listen": False}, settled)
    if not options["as_json"]:
        click.echo()
    return status
