"""`greenstep listen`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .completing import complete_board
from .faults import faults_as_asked
from .options import RATE, Real, general_options, line_end_option, open_options, trace_option

if TYPE_CHECKING:
    from greenstep.core.hookup import Hookup
    from greenstep.core.link import LineSettings, Link
    from greenstep.store.board import BoardSettings

_RATE_LISTEN_S = 1.5


@click.command("listen", short_help="Hear the application, and talk to it.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@open_options
@click.option("--console-baud", type=RATE, metavar="RATE", help="Rate of the application. [--baud, else 115200]")
@click.option(
    "--find-baud", is_flag=True, help="Try the usual rates on what is heard, and stay at the one that reads."
)
@click.option("--reset", is_flag=True, help="Reset into the application first, by the hookup.")
@click.option("--keys", is_flag=True, help="Send every key as it is pressed; Ctrl-C goes to the board.")
@click.option("--times", is_flag=True, help="Seconds before each line.")
@click.option("--hex", "as_hex", is_flag=True, help="Bytes in hexadecimal, with their text beside them.")
@click.option(
    "--log", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE", help="Add all lines to a file."
)
@click.option("--send", multiple=True, metavar="LINE", help="Send a line at the beginning.")
@click.option("--expect", metavar="TEXT", help="End as soon as this text has come; status 8 if it does not.")
@click.option("--within", type=Real(0.1, 86400), metavar="SECONDS", default=5.0, help="How long to wait for it. [5]")
@click.option("--seconds", type=Real(0.1, 86400), metavar="SECONDS", help="End after so long.")
@line_end_option
@trace_option
@general_options
def command(board: tuple[str, ...], as_json: bool, **options: Any) -> int:
    """A console: shows what the application says, and sends the lines typed. Lines of a pipe are sent too.

    \b
    greenstep listen hive-scale
    greenstep listen --port /dev/ttyUSB0 --find-baud --log hive.txt
    greenstep listen hive-scale --reset --expect "ready" --within 10
    """
    from greenstep.core.link import LineSettings
    from greenstep.core.secrets import Secrets
    from greenstep.core.talk import LINE_ENDS

    from .console import Console, ConsoleWishes, head_line
    from .port_choice import link_faults, open_said, port_name
    from .target import frame_said, settle

    with faults_as_asked(as_json):
        name, said = settle(board, {**options, "as_json": as_json, "expect": None}, port_is_enough=True)
        hookup = _hookup(said, options["reset"])
        settings = LineSettings(said.console_baud or said.baud or 115200, frame_said(said.frame))
        secrets = Secrets()
        port = port_name(said)
        link = open_said(
            said,
            settings,
            hookup.idle_lines if hookup else (False, False),
            {**options, "board": name},
            secrets,
            lasts=options["seconds"] is None and not options["expect"],
        ).link
        wishes = ConsoleWishes(
            LINE_ENDS[said.line_end or "crlf"],
            options["keys"],
            options["times"],
            options["as_hex"],
            options["log"],
            options["send"],
            options["expect"] or "",
            options["within"],
            options["seconds"],
            as_json,
            secrets,
        )
        resetting = hookup if options["reset"] else None
        try:
            first = b""
            with link_faults(said):
                if options["find_baud"]:
                    settings, first = _find_rate(link, settings, resetting, as_json)
                elif resetting is not None:
                    _reset(link, resetting)
            if not as_json:
                click.echo(head_line(name, port, settings, wishes))
            return Console(link, port, wishes).run(first)
        finally:
            link.close()


def _hookup(said: BoardSettings, reset: bool) -> Hookup | None:
    """The hookup, by which the pins stand right while the port is open; None where no chip is said.

    Raises UsageFault where a reset is wanted and the hookup has no way to do it.
    """
    from greenstep.core.errors import usage

    from .target import find_chip, hookup_of

    if not said.chip and not reset:
        return None
    hookup = hookup_of(said, find_chip(said))
    if reset and hookup.leave is None:
        raise usage("no-reset", f"the hookup {hookup.name} has no line that resets", "press reset by hand")
    return hookup


def _reset(link: Link, hookup: Hookup) -> None:
    from greenstep.core.hookup import Driver

    assert hookup.leave is not None
    link.discard()
    Driver(link, hookup).run(hookup.leave)


def _find_rate(
    link: Link, settings: LineSettings, hookup: Hookup | None, as_json: bool
) -> tuple[LineSettings, bytes]:
    """The rate that reads, and what was heard at it. Raises StartFault where none does."""
    from greenstep.core.errors import StartFault
    from greenstep.core.quantities import show_heard
    from greenstep.core.survey.rates import find_rate

    def stir() -> None:
        if hookup is not None:
            _reset(link, hookup)

    best = None
    for tried in find_rate(link, settings, _RATE_LISTEN_S, stir=stir):
        shown = show_heard(tried.data, 40) if tried.data else "nothing"
        if as_json:
            from .json_view import JsonView

            row = {"baud": tried.settings.baud, "score": tried.score, "heard": shown, "reads": tried.reads}
            JsonView().line("rate", row)
        else:
            click.echo(f"{tried.settings.baud:>8}  {tried.score:>3} %  {shown}")
        if tried.reads:
            return tried.settings, tried.data
        best = tried if best is None or tried.score > best.score else best
    silent = best is None or not best.data
    raise StartFault.of(
        "silent-application" if silent else "no-rate-reads",
        "nothing was heard at any rate" if silent else "no rate makes text of what is heard",
        () if best is None or silent else (f"best at {best.settings}: {show_heard(best.data)}",),
        (
            "reset the board meanwhile, by hand or with --reset: most programs talk only at their start",
            "check the wire from the chip's TX to the adapter's RX, and ground",
        ),
        "possible",
    )
