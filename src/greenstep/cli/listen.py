"""`greenstep listen`; and what comes before a console: its heading, the ELF file it is given, and how it gets its
port back."""

from __future__ import annotations

import shutil
import sys
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import click

from greenstep.core.link import LineSettings, Link
from greenstep.core.quantities import show_heard
from greenstep.store.board import BoardSettings
from greenstep.work.port_choice import BENCH

from .completion import complete_board
from .fault_view import wrapped
from .line_editor import LEAVE_NAME
from .options import RATE, How, Real, elf_option, general_options, line_end_option, open_options, trace_option
from .prompts import AT_THE_TERMINAL
from .screen import say, say_all
from .target import settle

if TYPE_CHECKING:
    from greenstep.core.survey.heard import RateTried
    from greenstep.work.board import Board
    from greenstep.work.program_on_board import ProgramFile
    from greenstep.work.run import Run

    from .console import ConsoleOptions
    from .options import How


def head_line(board: str, port: str, settings: LineSettings, options: ConsoleOptions) -> str:
    """The heading of a console: where it listens, and how to leave it."""
    parts = [board, port, str(settings)]
    if sys.stdin.isatty() and sys.stdout.isatty():
        parts.append(f"{LEAVE_NAME} leaves" if options.keys else f"{LEAVE_NAME} or Ctrl-C leaves")
    return "   ".join(part for part in parts if part)


def program_of(board: Board) -> ProgramFile | None:
    """The ELF file that the board names. Raises UsageFault."""
    if board.settings.elf is None:
        return None
    from greenstep.work.program_on_board import ProgramFile

    return ProgramFile(board, board.settings.elf)


def tell_doubts(options: ConsoleOptions) -> None:
    """Say at the beginning if the ELF file is not of what is on the board."""
    for text in options.program.news() if options.program is not None else ():
        if options.as_json:
            from .json_view import json_line

            json_line("doubt", text=text)
        else:
            say_all(wrapped(f"- {text}", shutil.get_terminal_size().columns, 2))


def go_on_listening(
    run: Run, how: How, program: ProgramFile | None = None, until: Callable[[], bool] | None = None
) -> int:
    """The console on the link of a run that ended well; nothing that came since the start is lost."""
    from .console import Console, ConsoleOptions

    job, link = run.job, run.outcome.link
    if link is None:  # nothing was opened
        return 0
    try:
        first = link.collected
        options = ConsoleOptions(line_end=job.line_end, as_json=how.as_json, secrets=job.secrets, program=program)
        if not how.as_json:
            say("", head_line("listening", "", link.settings, options))
        tell_doubts(options)
        again = opened_again(job.port, job.hookup.idle_lines, how.trace)
        plugged = plugged_again(job.port, job.hookup.idle_lines, how.trace)
        return Console(link, job.port, options, again, plugged, until).run(first)
    finally:
        link.close()


def _opened_again(port: str, lines: tuple[bool, bool], settings: LineSettings) -> Link:
    from greenstep.work.port_choice import open_again

    return open_again(port, settings, lines)


def opened_again(port: str, lines: tuple[bool, bool], trace: Path | None) -> Callable[[LineSettings], Link] | None:
    """How a console gets its port back; None where it is not given away: simulated, or being recorded."""
    return None if port.startswith(BENCH) or trace is not None else partial(_opened_again, port, lines)


def plugged_again(
    port: str, lines: tuple[bool, bool], trace: Path | None
) -> Callable[[LineSettings], Link | None] | None:
    """How a console finds its port after the plug was pulled; None where there is no plug, or a recording ends."""
    if port.startswith(BENCH) or trace is not None:
        return None
    from greenstep.work.resetting import PortAgain

    return PortAgain(port, lines).if_there


@click.command("listen", short_help="Hear the application, and talk to it.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@open_options
@click.option("--console-baud", type=RATE, metavar="RATE", help="Rate of the application. [--baud, else 115200]")
@click.option("--find-baud", is_flag=True, help="Try the usual rates until the text is readable, and stay there.")
@click.option("--reset", is_flag=True, help="Reset into the application first, by the hookup.")
@click.option("--keys", is_flag=True, help="Send every key as it is pressed; Ctrl-C goes to the board.")
@click.option(
    "--raw", is_flag=True, help="Pass everything heard to the screen, not only text and colours; keys as with --keys."
)
@click.option("--times", is_flag=True, help="Show the time before each line, in seconds.")
@click.option("--hex", "as_hex", is_flag=True, help="Bytes in hexadecimal, with their text beside them.")
@click.option(
    "--log",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Add all lines to a file, with the time of day, < heard and > sent.",
)
@click.option("--send", multiple=True, metavar="LINE", help="Send a line at the beginning.")
@click.option(
    "--send-file",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Send a file as it is, after the lines of --send.",
)
@click.option(
    "--pause", type=Real(0, 60), metavar="SECONDS", default=0.0, help="Wait after each line of that file. [0]"
)
@click.option(
    "--save",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Save every byte heard, as it came.",
)
@click.option("--replace", is_flag=True, help="Let --save replace a file.")
@click.option(
    "--expect", "text", metavar="TEXT", help="Stop as soon as this text is heard; exit status 8 if it is not."
)
@click.option(
    "--within",
    type=Real(0.1, 86400),
    metavar="SECONDS",
    default=5.0,
    help="How long to wait for the text of --expect. [5]",
)
@click.option("--seconds", type=Real(0.1, 86400), metavar="SECONDS", help="Stop after this long.")
@elf_option
@line_end_option
@trace_option
@general_options
def listen_command(
    board: tuple[str, ...], find_baud: bool, reset: bool, keys: bool, raw: bool, times: bool, as_hex: bool,
    log: Path | None, send: tuple[str, ...], send_file: Path | None, pause: float, save: Path | None, replace: bool,
    text: str | None, within: float, seconds: float | None, settings: BoardSettings, how: How,
) -> int:  # fmt: skip
    """A console: shows what the application says, and sends the lines you type. Lines from a pipe are sent too.

    \b
    greenstep listen hive-scale
    greenstep listen --port /dev/ttyUSB0 --find-baud --log hive.txt
    greenstep listen hive-scale --reset --expect "ready" --within 10
    greenstep listen hive-scale --send-file names.txt --save heard.bin
    """
    from greenstep.core.plan.write_options import LINE_ENDS
    from greenstep.store.image_files import check_new
    from greenstep.work.listening import find_rate, open_console

    from .console import Console, ConsoleOptions

    wanted = settle(board, settings, how, port_is_enough=True)
    if save is not None:
        check_new(save, replace)
    options = ConsoleOptions(
        line_end=LINE_ENDS[wanted.settings.line_end or "crlf"],
        keys=keys,
        raw=raw,
        times=times,
        as_hex=as_hex,
        log=log,
        send=send,
        file=_read(send_file),
        pause_s=pause,
        save=save,
        expect=text or "",
        within_s=within,
        seconds=seconds,
        program=program_of(wanted),
        as_json=how.as_json,
    )
    lasts = seconds is None and not text
    with open_console(wanted, AT_THE_TERMINAL, reset, lasts, how.trace, options.secrets) as console:
        first = b""
        if find_baud:
            first = find_rate(console, partial(_show_rate, how)).data
        elif reset:
            console.reset()
        if not how.as_json:
            say(head_line(wanted.name, console.port, console.link.settings, options))
        tell_doubts(options)
        again = opened_again(console.port, console.lines, how.trace)
        plugged = plugged_again(console.port, console.lines, how.trace) if lasts else None
        return Console(console.link, console.port, options, again, plugged).run(first)


_MOST_SENT = 64 << 20


def _read(path: Path | None) -> bytes:
    """What is to be sent. Raises UsageFault."""
    from greenstep.core.errors import usage
    from greenstep.core.safety.plain_files import read_plain

    try:
        return b"" if path is None else read_plain(path, _MOST_SENT)
    except OSError as error:
        raise usage("send-file", f"{path}: {error.strerror or error}", "another --send-file") from None


def _show_rate(how: How, tried: RateTried) -> None:
    shown = show_heard(tried.data, 40) if tried.data else "nothing"
    if how.as_json:
        from .json_view import json_line

        row = {"baud": tried.settings.baud, "score": tried.score, "heard": shown, "reads": tried.reads}
        json_line("rate", **row)
    else:
        say(f"{tried.settings.baud:>8}  {tried.score:>3} %  {shown}")
