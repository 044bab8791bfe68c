"""`greenstep upload`"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from .completing import complete_target
from .drive import climb_board
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
    if target and Path(target[0]).is_file():
        from greenstep.store.kit import is_kit

        if is_kit(Path(target[0])):
            from .kit_upload import upload_kit

            _refuse_beside_a_kit(if_changed, backup_first, options)
            return upload_kit(target, options)
    if if_changed:
        from .unchanged import is_there_already

        if is_there_already(target, options):
            return _listen(target, options) if options["listen"] else 0
    if backup_first is not None:
        status = _back_up(target, backup_first, options)
        if status:
            return status
    return climb_board("upload", target, options)


def _refuse_beside_a_kit(if_changed: bool, backup_first: Path | None, options: dict[str, Any]) -> None:
    """What a kit has no use for is not passed over in silence. Raises UsageFault."""
    from greenstep.core.errors import usage

    from .drive import faults_as_asked

    given = {
        "--if-changed": if_changed,
        "--backup-first": backup_first is not None,
        "--listen": options["listen"],
        "--eeprom": bool(options["eeprom"]),
        "--images": bool(options["images"]),
    }
    named = ", ".join(name for name, there in given.items() if there)
    if named:
        with faults_as_asked(bool(options["as_json"])):
            raise usage(
                "kit-option", f"{named} does not go with a kit", "leave it out", "greenstep listen hears it later"
            )


def _listen(target: tuple[str, ...], options: dict[str, Any]) -> int:
    """What `--listen` wants, where nothing was written."""
    from .target import settle

    board, _ = settle(target, options)
    return climb_board("start", (board,) if board else (), options)


def _back_up(target: tuple[str, ...], save: Path, options: dict[str, Any]) -> int:
    """The whole flash into a file. The images are read before: an upload that lacks one begins nothing. Returns the
    exit status."""
    from .backup import back_up
    from .drive import faults_as_asked
    from .target import find_chip, load_images, settle

    with faults_as_asked(bool(options["as_json"])):
        board, said = settle(target, options)
        load_images(said, find_chip(said))
    status = back_up((board,) if board else (), save, False, ("flash", None, None), {**options, "listen": False})
    if not options["as_json"]:
        click.echo()
    return status
