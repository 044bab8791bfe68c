"""`greenstep listen`"""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import click

from greenstep.core.quantities import show_heard
from greenstep.store.board import BoardSettings

from .completing import complete_board
from .options import RATE, How, Real, elf_option, general_options, line_end_option, open_options, trace_option
from .person import AT_THE_TERMINAL
from .screen import say
from .target import settle

if TYPE_CHECKING:
    from greenstep.core.survey.heard import RateTried


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
def command(
    board: tuple[str, ...], find_baud: bool, reset: bool, keys: bool, raw: bool, times: bool, as_hex: bool,
    log: Path | None, send: tuple[str, ...], send_file: Path | None, pause: float, save: Path | None, replace: bool,
    text: str | None, within: float, seconds: float | None, said: BoardSettings, how: How,
) -> int:  # fmt: skip
    """A console: shows what the application says, and sends the lines you type. Lines from a pipe are sent too.

    \b
    greenstep listen hive-scale
    greenstep listen --port /dev/ttyUSB0 --find-baud --log hive.txt
    greenstep listen hive-scale --reset --expect "ready" --within 10
    greenstep listen hive-scale --send-file names.txt --save heard.bin
    """
    from greenstep.core.engine.job import LINE_ENDS
    from greenstep.store.image_saving import check_new
    from greenstep.work.listening import find_rate, open_console

    from .console import Console, ConsoleWishes
    from .console_beginning import head_line, opened_again, plugged_again, program_of, tell_doubts

    wanted = settle(board, said, how, port_is_enough=True)
    if save is not None:
        check_new(save, replace)
    wishes = ConsoleWishes(
        line_end=LINE_ENDS[wanted.said.line_end or "crlf"],
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
    with open_console(wanted, AT_THE_TERMINAL, reset, lasts, how.trace, wishes.secrets) as console:
        first = b""
        if find_baud:
            first = find_rate(console, partial(_show_rate, how)).data
        elif reset:
            console.reset()
        if not how.as_json:
            say(head_line(wanted.name, console.port, console.link.settings, wishes))
        tell_doubts(wishes)
        again = opened_again(console.port, console.lines, how.trace)
        plugged = plugged_again(console.port, console.lines, how.trace) if lasts else None
        return Console(console.link, console.port, wishes, again, plugged).run(first)


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
