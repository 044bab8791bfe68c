"""`greenstep upload`"""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import click

from greenstep.core.errors import usage
from greenstep.core.quantities import show_seconds
from greenstep.store.board import BoardSettings
from greenstep.work.board import Board

from .completing import complete_target
from .drive import run_board
from .options import (
    How,
    board_options,
    elf_option,
    general_options,
    image_options,
    ladder_option,
    show_line_option,
    sparing_options,
    start_options,
    talk_options,
    trace_option,
    wait_option,
)
from .person import AT_THE_TERMINAL
from .screen import can_ask, say
from .target import settle

if TYPE_CHECKING:
    from greenstep.core.image import Image
    from greenstep.work.unchanged import Compared


_PLUG_PATIENCE_S = 60.0


@click.command("upload", short_help="Write images, read them back, start.")
@click.argument("target", nargs=-1, metavar="[BOARD] [FILE [at ADDRESS]]…", shell_complete=complete_target)
@board_options
@image_options
@start_options
@sparing_options
@talk_options
@elf_option
@click.option("--listen", is_flag=True, help="Stay on the line after a green upload.")
@click.option("--watch", is_flag=True, help="Upload now and after every change of the image files, until Ctrl-C.")
@click.option("--when-plugged", is_flag=True,
              help="Wait until the board is plugged in, then begin: for ports that exist only then.")  # fmt: skip
@click.option("--if-changed", is_flag=True, help="Read first: where the chip holds these very bytes, write nothing.")
@click.option("--backup-first", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
              help="Save what the flash holds before anything is changed.")  # fmt: skip
@click.option("--allow-secret", multiple=True, metavar="NAME",
              help="A secret that a kit may have from the environment variable of that name.")  # fmt: skip
@wait_option
@ladder_option
@show_line_option
@trace_option
@general_options
def command(
    target: tuple[str, ...],
    watch: bool,
    when_plugged: bool,
    if_changed: bool,
    backup_first: Path | None,
    allow_secret: tuple[str, ...],
    said: BoardSettings,
    how: How,
) -> int:
    """Write images into the chip, read them back, and start the application. With nothing but a file and a port, it
    finds out first what is there.

    \b
    greenstep upload scale.hex --port /dev/ttyUSB0
    greenstep upload brood-probe
    greenstep upload scale.hex --chip atmega328p --port /dev/ttyUSB0
    greenstep upload hive-scale-2.4.kit
    greenstep upload hive-scale --watch --listen
    greenstep upload probe.bin at 0x08004000 --chip stm32f072rb --hookup by-hand

    Exit status: 0 green (or written and, as asked, not verified); 2 usage or project file; 3 port;
    4 no bootloader answered; 5 refused before writing; 6 erase or write failed; 7 verify failed;
    8 the expected text was not heard; 130 interrupted.
    """
    if target and Path(target[0]).is_file():
        from greenstep.store.kit import is_kit

        if is_kit(Path(target[0])):
            from .kit_upload import upload_kit

            if watch:
                raise usage("kit-option", "a kit does not change: there is nothing to watch", "leave out --watch")
            if said.images:
                raise usage("kit-option", "a kit brings its own images", "leave out --images and --eeprom")
            return upload_kit(
                target, said, how, allow_secret, lambda board: _upload(board, how, if_changed, backup_first)
            )
    if allow_secret:
        raise usage("kit-option", "only a kit has to be allowed a secret", "leave out --allow-secret")
    board = settle(target, said, how)
    if when_plugged:
        from greenstep.work.plugging import wait_for_plug

        board = wait_for_plug(board, board.said.patience or _PLUG_PATIENCE_S, partial(say, err=True))
    if not board.said.chip and board.said.port is not None and board.said.images:
        from .unknown_board import found_out

        board = found_out(board, how)
    if watch:
        from .watch import watch_and_upload

        if if_changed or backup_first is not None:
            raise usage(
                "watch-option", "--watch uploads again and again", "leave out --if-changed and --backup-first"
            )
        return watch_and_upload(board, how)
    return _upload(board, how, if_changed, backup_first)


def _upload(board: Board, how: How, if_changed: bool, backup_first: Path | None) -> int:
    """Check whether it is there already, back up, upload, listen: as requested. Returns the exit status."""
    from greenstep.work.partition_names import images_for

    images = images_for(board, AT_THE_TERMINAL)  # before anything else: an upload that lacks one must not begin
    if can_ask():
        from .stored_settings import asked_about

        board, status = asked_about(board, images, how)
        if status:
            return status
    if if_changed:
        found = _compared(board, how, images)
        if found.same:
            return run_board("start", board, how) if how.listen else 0
        if found.finding:  # what was read differs: no journal outweighs that
            board = board.without_journal()
    if backup_first is not None:
        status = _back_up(board, backup_first, how)
        if status:
            return status
    return run_board("upload", board, how, images=images)


def _compared(board: Board, how: How, images: dict[str, Image]) -> Compared:
    """Whether a verify finds every byte of the images in the chip. Raises KeyboardInterrupt."""
    from greenstep.work.jobs import make_job
    from greenstep.work.run import Run
    from greenstep.work.unchanged import compared

    run = Run(make_job("verify", board, AT_THE_TERMINAL, images=images), AT_THE_TERMINAL)
    found = compared(run)
    if how.as_json:
        from .json_view import json_line

        values = {"board": board.name, "same": found.same, "proof": found.proof, "finding": found.finding}
        json_line("compared", **values)
    elif found.same:
        part = run.outcome.part
        who = board.name or (part.title if part else board.choice.name)
        what = " + ".join(image.name for image in run.job.images.values())
        took = show_seconds(run.outcome.elapsed_s)
        say(f" {who} holds {what} already: {found.proof}. Nothing was written; {took}")
    return found


def _back_up(board: Board, save: Path, how: How) -> int:
    """The whole flash into a file. Returns the exit status."""
    from .backup import back_up

    status = back_up(board, save, False, ("flash", None, None), replace(how, listen=False))
    if not how.as_json:
        say()
    return status
