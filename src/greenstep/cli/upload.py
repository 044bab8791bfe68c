"""`greenstep upload` and `verify`. Of an upload of which only the port is known, who is there is found out first; if
the image would overwrite what the program has stored, the person is asked what to do about it."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import click

from greenstep.core.errors import RefusedFault, usage
from greenstep.core.events import RunEnded, StepEnded
from greenstep.core.plan.write_options import Keep
from greenstep.core.quantities import show_seconds, show_span
from greenstep.store.board import BoardSettings
from greenstep.work.board import Board

from .completion import complete_target
from .drive import run_board
from .options import (
    How,
    board_options,
    elf_option,
    general_options,
    image_options,
    ladder_option,
    looked_at_options,
    region_options,
    show_line_option,
    sparing_options,
    start_options,
    talk_options,
    trace_option,
    wait_option,
)
from .prompts import AT_THE_TERMINAL
from .screen import ask_number, can_ask, say
from .target import settle

if TYPE_CHECKING:
    from greenstep.core.image import Image
    from greenstep.core.image.esp_tables import Partition
    from greenstep.work.run import Compared

    from .options import How


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
def upload_command(
    target: tuple[str, ...],
    watch: bool,
    when_plugged: bool,
    if_changed: bool,
    backup_first: Path | None,
    allow_secret: tuple[str, ...],
    settings: BoardSettings,
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
            from .kit import upload_kit

            if watch:
                raise usage("kit-option", "a kit does not change: there is nothing to watch", "leave out --watch")
            if settings.images:
                raise usage("kit-option", "a kit brings its own images", "leave out --images and --eeprom")
            return upload_kit(
                target, settings, how, allow_secret, lambda board: _upload(board, how, if_changed, backup_first)
            )
    if allow_secret:
        raise usage("kit-option", "only a kit has to be allowed a secret", "leave out --allow-secret")
    board = settle(target, settings, how)
    if when_plugged:
        from greenstep.work.resetting import wait_for_plug

        board = wait_for_plug(board, board.settings.patience or _PLUG_PATIENCE_S, partial(say, err=True))
    if not board.settings.chip and board.settings.port is not None and board.settings.images:
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
    from greenstep.work.run import Run, compared

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
    from .memory import back_up

    status = back_up(board, save, False, ("flash", None, None), replace(how, listen=False))
    if not how.as_json:
        say()
    return status


def found_out(board: Board, how: How) -> Board:
    """The board with the chip's family, the hookup and the rate that were found. Raises NoAnswerFault, PortFault."""
    from .greet import greet_unknown

    bare = Board(board.name, replace(board.settings, images=None))
    settings = replace(greet_unknown(bare, how).over(board.settings), dialect=None)
    found = Board(board.name, settings)
    if not can_ask() or found.hookup.by_hand:
        return found
    chip = _which(found)
    return Board(board.name, replace(settings, chip=chip)) if chip else found


def _which(board: Board) -> str:
    """The chip, by the person's answer, where several kinds answer alike; empty if the chip itself tells."""
    from greenstep.core.chips.catalogue import Catalogue
    from greenstep.work.jobs import make_job
    from greenstep.work.run import Run

    alike: list[str] = []
    for event in Run(make_job("greet", board, AT_THE_TERMINAL), AT_THE_TERMINAL, recorded=False).events():
        if isinstance(event, StepEnded) and event.step == "chip":
            alike = [name for name in str(event.figures.get("one_of", "")).split(",") if name]
        if isinstance(event, RunEnded) and event.exit_code:
            return ""
    if not alike:
        return ""
    say("Several kinds answer alike, and are not written alike. What is on the package?", err=True)
    for number, name in enumerate(alike, 1):
        say(f"  {number}. {Catalogue.load().find(name).title}", err=True)
    return alike[ask_number("Your choice", len(alike)) - 1]


_ANSWERS = ("keep it", "save it to a file, then overwrite it", "overwrite it", "stop")


def asked_about(board: Board, images: dict[str, Image], how: How) -> tuple[Board, int]:
    """The board with what the person decided, and the exit status of a backup that failed. Other refusals are left to
    the run. Raises click.Abort."""
    from greenstep.core.dialects.esp_images import OVERWRITES
    from greenstep.core.engine.connect import refuse_unfit
    from greenstep.core.image.esp_tables import MOST_BYTES, USUAL_PLACE, read_table
    from greenstep.work.jobs import make_job

    try:
        refuse_unfit(make_job("upload", board.without_port, images=images))
    except RefusedFault as fault:
        if fault.finding.key != OVERWRITES:
            return board, 0
    else:
        return board, 0
    rows = [row for row in read_table(images["flash"].cut(USUAL_PLACE, MOST_BYTES, 0xFF)) if row.holds_settings]
    rows = [row for row in rows if images["flash"].touches(row.offset, row.size)]
    where = ", ".join(f"{row.label} at {show_span(row.offset, row.size)}" for row in rows)
    say(f"The image would overwrite what the program has stored: {where}.", err=True)
    for number, answer in enumerate(_ANSWERS, 1):
        say(f"  {number}. {answer}", err=True)
    return _done(_ANSWERS[ask_number("Your choice", len(_ANSWERS)) - 1], board, rows, how)


def _done(answer: str, board: Board, rows: list[Partition], how: How) -> tuple[Board, int]:
    if answer == "stop":
        raise click.Abort
    if answer == "keep it":
        kept = tuple(Keep(row.offset, row.size, row.label) for row in rows)
        return Board(board.name, replace(board.settings, keep=(*(board.settings.keep or ()), *kept))), 0
    if answer != "overwrite it":
        from .memory import back_up

        at = datetime.now().astimezone().strftime("%Y%m%d-%H%M%S")
        for row in rows:
            save = Path(f"{board.name or board.choice.name}-{row.label}-{at}.bin")
            status = back_up(board, save, False, ("flash", row.offset, row.size), replace(how, listen=False))
            if status:
                return board, status
            say()
    return Board(board.name, replace(board.settings, even_if=(*(board.settings.even_if or ()), "settings"))), 0


@click.command("verify", short_help="Compare the chip with images.")
@click.argument("target", nargs=-1, metavar="[BOARD] [FILE [at ADDRESS]]…", shell_complete=complete_target)
@click.option("--blank", is_flag=True, help="That nothing is there, instead of an image.")
@click.option("--memory", metavar="NAME", help="With --blank: flash or eeprom. [flash]")
@region_options
@board_options
@looked_at_options
@trace_option
@general_options
def verify_command(
    target: tuple[str, ...], blank: bool, memory: str | None, region_from: int | None, region_size: int | None,
    settings: BoardSettings, how: How,
) -> int:  # fmt: skip
    """Compare what the chip holds with the images, byte for byte, or with --blank that a memory or a region of it is
    blank. Changes nothing on the chip.

    Exit status 0 says equal, 7 different.
    """
    if not blank and (memory, region_from, region_size) != (None, None, None):
        raise click.UsageError("--memory, --from and --size go with --blank.")
    region = (memory or "flash", region_from, region_size)
    return run_board("verify", settle(target, settings, how), how, region, blank=blank)
