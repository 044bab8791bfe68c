"""`greenstep greet`; and, if only a port is known, the search for who is there, which `hookup find` shares."""

from __future__ import annotations

import sys
from dataclasses import replace
from typing import TYPE_CHECKING

import click

from greenstep.store.board import BoardSettings
from greenstep.work.board import Board

from .completion import complete_board
from .drive import run_board
from .options import How, board_options, general_options, show_line_option, trace_option
from .prompts import AT_THE_TERMINAL
from .screen import say, shows_signs
from .target import settle

if TYPE_CHECKING:
    from greenstep.core.survey.hookups import Candidate, HeardBefore, HookupTried
    from greenstep.work.surveying import SurveyView


@click.command("greet", short_help="Say what answers.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@click.option("--any", "anyone", is_flag=True, help="Find the dialect: ask in each, in an order that harms none.")
@board_options
@show_line_option
@trace_option
@general_options
def greet_command(board: tuple[str, ...], anyone: bool, settings: BoardSettings, how: How) -> int:
    """Reset into the bootloader, synchronise, and say what answered. Changes nothing on the chip. With nothing but a
    port, or with --any, it listens first, then tries the common hookups and every dialect.

    \b
    greenstep greet brood-probe
    greenstep greet --port /dev/ttyUSB0
    greenstep greet --any --port /dev/ttyUSB0 --hookup cap-dtr
    greenstep greet --chip stm32 --port /dev/ttyUSB0 --hookup by-hand
    """
    wanted = settle(board, settings, how, port_is_enough=True)
    if anyone or (not wanted.settings.chip and wanted.settings.hookup is None):
        if anyone:
            wanted = Board(wanted.name, replace(wanted.settings, chip=None, dialect=None))
        settings = replace(greet_unknown(wanted, how).over(settings), dialect=None)
    return run_board("greet", settle(board, settings, how), how)


class _Rows:
    """A survey as text."""

    def __init__(self) -> None:
        signs = shows_signs(sys.stdout)
        self._signs = (
            {"answered": "●", "resets": "◐", "silent": "○"}
            if signs
            else {"answered": "+", "resets": "~", "silent": "."}
        )

    def opened(self, port: str, evidence: str) -> None:
        say(f"{port}   {evidence}", "")

    def heard(self, event: HeardBefore) -> None:
        if event.answer:
            say(f"   before     {event.dialect} answers already: {event.answer}")
        else:
            say(f"   before     {event.settings}: {event.meaning.words}")

    def tried(self, event: HookupTried) -> None:
        heard = event.meaning.words
        words = f"reset works; {heard}" if event.outcome == "resets" else heard
        say(f" {self._signs[event.outcome]} {event.hookup:<32} {event.dialect:<14} {event.baud:<7} {words}")
        sys.stdout.flush()

    def without_lines(self) -> None:
        say("   note     this port has no DTR and RTS: continuing by hand")

    def hands_wanted(self, patience_s: float) -> None:
        from greenstep.core.survey.hookups import TURN_S

        say("   now      put the chip into its bootloader by hand: boot pin first, then reset")
        say(f"            and again every {TURN_S:g} s, until it answers; asking for {patience_s:g} s …")
        sys.stdout.flush()


class _JsonRows:
    """A survey as JSON lines."""

    def opened(self, port: str, evidence: str) -> None:
        """Nothing."""

    def heard(self, event: HeardBefore) -> None:
        from .json_view import json_line

        meaning = event.meaning
        json_line("heard-before", settings=str(event.settings), kind=meaning.kind, heard=meaning.words)

    def tried(self, event: HookupTried) -> None:
        from .json_view import json_line

        values = {key: value for key, value in event.__dict__.items() if key != "meaning"}
        json_line("tried", **values, kind=event.meaning.kind, heard=event.meaning.words)

    def without_lines(self) -> None:
        """Nothing."""

    def hands_wanted(self, patience_s: float) -> None:
        """Nothing."""


def _view(how: How) -> SurveyView:
    return _JsonRows() if how.as_json else _Rows()


def find_hookup(words: tuple[str, ...], settings: BoardSettings, how: How) -> int:
    """`greenstep hookup find`. Returns the exit status; raises NoAnswerFault if nothing was found."""
    from greenstep.work.surveying import answered, hookup_words, survey

    from .json_view import json_line

    board = settle(words, settings, how, port_is_enough=True)
    surveyed = survey(board, _view(how), AT_THE_TERMINAL, by_hand=False, trace=how.trace)
    candidate, leaves = answered(surveyed), surveyed.found.leaves
    hookup = hookup_words(candidate)
    table = hookup if hookup.startswith("{") else f'"{hookup}"'
    if how.as_json:
        values = {"hookup": candidate.hookup.name, "table": table, "baud": candidate.baud, "leaves": leaves}
        json_line("found", **values)
        return 0
    rate = [f"   baud = {candidate.baud}"] if _is_other_rate(candidate) else []
    say("", f" found: {candidate.hookup.name}", "", f"   hookup = {table}", *rate, "")
    if candidate.hookup.name == "by-hand":
        say("   it runs already, and nothing shows whether a line resets it: there is no program to be heard")
    elif leaves == "silent":
        say("   nothing was heard after leaving: whether it leaves is not proven")
    elif leaves == "stays":
        say("   its way out did not leave the bootloader: look at the boot pin")
    return 0


def _is_other_rate(candidate: Candidate) -> bool:
    return candidate.baud in candidate.dialect.spec.asking.other_bauds


def greet_unknown(board: Board, how: How) -> BoardSettings:
    """What `greet` needs to continue if only a port is known: chip family, hookup, rate. Raises NoAnswerFault."""
    from greenstep.core.chips.catalogue import Catalogue
    from greenstep.store.board_words import hookup_argument
    from greenstep.work.surveying import answered, hookup_words, survey

    trace = how.trace and how.trace.with_stem(f"{how.trace.stem}-survey")
    candidate = answered(survey(board, _view(how), AT_THE_TERMINAL, by_hand=True, trace=trace))
    family = Catalogue.load().family_of(candidate.dialect.name)
    hookup = hookup_words(candidate)
    if not how.as_json:
        rate = f" --baud {candidate.baud}" if _is_other_rate(candidate) else ""
        quoted = f"'{hookup}'" if hookup.startswith("{") else hookup
        say("", f"   so it is --chip {family} --hookup {quoted}{rate}", "")
    return BoardSettings(chip=family, hookup=hookup_argument(hookup), baud=candidate.baud)
