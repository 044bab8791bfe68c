"""`greenstep hookup`: list, show, try, hold and find."""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from greenstep.core.hookup.other_pins import OUTSIDE
from greenstep.store.board import BoardSettings
from greenstep.work.port_choice import link_faults, open_board_port
from greenstep.work.prompter import pins_of

from .command_groups import HelpPage
from .completion import complete_board
from .figures import save_figure, saved_line
from .options import (
    RATE,
    Engineering,
    How,
    Real,
    board_options,
    general_options,
    open_options,
    trace_option,
    wired_options,
)
from .prompts import AT_THE_TERMINAL
from .reset import by_hand
from .screen import say, say_all
from .target import settle

if TYPE_CHECKING:
    from greenstep.core.hookup.circuits import Hookup
    from greenstep.core.hookup.sequence import Sequence
    from greenstep.core.hookup.waveform import Waveform
    from greenstep.core.link import Link


class _Hookup(click.Group):
    """Its help ends with what `list` says."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(self.commands)

    def format_epilog(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        for title, rows in hookup_tables():
            with formatter.section(title):
                formatter.write_dl(rows)


@click.group("hookup", cls=_Hookup, short_help="How DTR and RTS move reset and boot.")
def hookup_command() -> None:
    """How DTR and RTS move the pins reset and boot: explained, drawn with their voltages, run once, held still for a
    meter, or found out by trying."""


def hookup_tables() -> list[tuple[str, list[tuple[str, str]]]]:
    """Circuits, the keys of a table of one's own, and the moves of sequences: title, and rows of word and meaning."""
    from greenstep.core.hookup.circuits import NAMED, TABLE_KEYS
    from greenstep.core.hookup.sequence import STATEMENTS

    return [
        ("Circuits, for --hookup", list(NAMED.items())),
        ('Any other circuit, as \'{ reset = { line = "rts", held = "asserted" } }\'', list(TABLE_KEYS.items())),
        ("Moves, for --enter and --leave: ';' between two, ',' for at once", list(STATEMENTS.items())),
    ]


@hookup_command.command("list", short_help="The circuits, keys and moves below.")
@click.option("--json", "as_json", is_flag=True, help="One row per line, for programs.")
def list_(as_json: bool) -> int:
    """The circuits with their names, the keys of a table for any other one, and the moves of which sequences are
    made."""
    if as_json:
        from .json_view import json_line

        for kind, (_, rows) in zip(("circuit", "table-key", "move"), hookup_tables(), strict=True):
            for name, meaning in rows:
                json_line(kind, name=name, meaning=meaning)
        return 0
    formatter = HelpPage(width=100)
    for title, rows in hookup_tables():
        with formatter.section(title):
            formatter.write_dl(rows)
    say_all(formatter.getvalue().strip("\n").split("\n"))
    return 0


_OF = click.option(
    "--of", "which", type=click.Choice(["enter", "leave"]), default="enter", help="Which sequence. [enter]"
)


@hookup_command.command("show", short_help="Draw a sequence, in volts.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@_OF
@wired_options
@click.option("--volts", type=Engineering("V"), metavar="V", help="Supply. [the chip's usual]")
@click.option("--pull-up", type=Engineering("ohm"), metavar="OHM", help="Pull-up at reset. [10k]")
@click.option("--reset-capacitor", type=Engineering("F"), metavar="F", help="Reset to ground. [none; cross pair 1u]")
@click.option("--coupling", type=Engineering("F"), metavar="F", help="Capacitor between line and reset. [100n]")
@click.option("--save", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE", help="A figure: PNG, SVG.")
@general_options
def show(
    board: tuple[str, ...], which: str, save: Path | None, settings: BoardSettings, how: How,
    volts: float | None, pull_up: float | None, reset_capacitor: float | None, coupling: float | None,
) -> int:  # fmt: skip
    """Draw a sequence: DTR, RTS, reset and boot over time, in volts. Touches no port.

    \b
    greenstep hookup show brood-probe
    greenstep hookup show --chip esp32 --reset-capacitor 22u --save slow.png
    """
    from greenstep.core.hookup.waveform import Electrics, draw_waveform, warnings

    wanted = settle(board, settings, how)
    hookup, part = wanted.hookup, wanted.choice.first
    sequence = hookup.enter if which == "enter" else hookup.leave
    if sequence is not None and hookup.outside:
        return _show_outside(hookup, sequence, wanted.name, how)
    if sequence is None or hookup.reset is None:
        return by_hand(wanted, which == "enter", how, sequence)
    given = {"volts": volts, "pull_up_ohm": pull_up, "reset_farad": reset_capacitor, "coupling_farad": coupling}
    known = {key: value for key, value in given.items() if value is not None}
    electrics = replace(Electrics.usual(hookup, part.wires.volts), **known)
    drawn = draw_waveform(hookup, sequence, electrics, part.boot_level)
    warned = warnings(hookup, sequence, electrics, part.boot_level, which == "enter", part.wires.shortest_reset_s)
    low, high = part.wires.volts_range
    if not low <= electrics.volts <= high:
        warned = (f"{electrics.volts:g} V: the {part.title} stands {low:g} to {high:g} V", *warned)
    heads = (wanted.name, wanted.choice.title, hookup.name, which, f"{electrics.volts:g} V")
    title = "   ".join(word for word in heads if word)
    save_figure(save, "lines_figure:save_lines", drawn, f"{title}\n{sequence}", part.boot_level, warned)
    if how.as_json:
        _show_json(drawn, sequence, hookup, warned)
    else:
        _show_text(drawn, title, sequence, warned)
        saved_line(save)
    return 0


def _show_outside(hookup: Hookup, sequence: Sequence, board: str, how: How) -> int:
    """Pins that no line reaches have no voltages that could be worked out."""
    moved = {pin: mover for pin in OUTSIDE if (mover := hookup.mover_of(pin))}
    if how.as_json:
        from .json_view import json_line

        json_line("sequence", hookup=hookup.name, sequence=str(sequence), moved=moved)
        return 0
    say(f"{f'{board}   ' if board else ''}{sequence}")
    for pin, mover in moved.items():
        say(f"  {pin:<6} by {mover}")
    return 0


def _show_text(drawn: Waveform, title: str, sequence: Sequence, warned: tuple[str, ...]) -> None:
    from greenstep.core.hookup.waveform_text import text_lanes

    from .screen import shows_signs

    plain = not shows_signs(sys.stdout)
    lanes = text_lanes(drawn, 92, plain)
    say(f"{title}", "", f"  {sequence}", "")
    for lane, bars in lanes.lanes:
        say(f"  {lane:<7}{bars}")
    say(f"  {'':<7}{lanes.ruler}")
    for pulse in drawn.pulses:
        if pulse.sampled_s is not None:
            from greenstep.core.hookup.waveform_text import sampling_words

            mark = "^" if plain else "▲"
            say(f"  {'':<7}{'':<{lanes.column(pulse.sampled_s)}}{mark} {sampling_words(pulse, drawn)}")
    say()
    for pulse in drawn.pulses:
        if pulse.end_s is not None:
            say(f"  reset is low for {(pulse.end_s - pulse.start_s) * 1000:.3g} ms")
    for warning in warned:
        say(f"  ! {warning}")
    say("  computed from the circuit; to measure: greenstep hookup hold")


def _show_json(drawn: Waveform, sequence: Sequence, hookup: Hookup, warned: tuple[str, ...]) -> None:
    from .json_view import json_line

    json_line(
        "waveform",
        hookup=hookup.name,
        sequence=str(sequence),
        volts=drawn.volts,
        end_s=drawn.end_s,
        moves=drawn.moves,
        lanes={lane.name: lane.stretches for lane in drawn.lanes},
        pulses=drawn.pulses,
        warnings=warned,
    )


# --- on a real port


@hookup_command.command("try", short_help="Run a sequence once, and hear.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@_OF
@open_options
@click.option("--console-baud", type=RATE, metavar="RATE", help="Rate at which to listen afterwards. [--baud]")
@trace_option
@general_options
def try_(board: tuple[str, ...], which: str, settings: BoardSettings, how: How) -> int:
    """Run a sequence once, and tell what is heard after it. Asks nothing and writes nothing."""
    from .reset import move_once

    return move_once(settle(board, settings, how), which == "enter", how, "tried")


@hookup_command.command("hold", short_help="Hold lines still, for a meter.")
@click.argument("moves")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@click.option("--seconds", type=Real(0, 86400), metavar="SECONDS", help="Hold this long, instead of until a key.")
@open_options
@general_options
def hold(moves: str, board: tuple[str, ...], seconds: float | None, settings: BoardSettings, how: How) -> int:
    """Set lines or pins and hold them, to measure with a meter; a key ends it, and the lines are released.

    \b
    greenstep hookup hold "dtr on, rts off" --port /dev/ttyUSB0 --chip avr
    greenstep hookup hold "boot on; reset on" brood-probe
    """
    from greenstep.core.errors import usage
    from greenstep.core.hookup.drive import Driver
    from greenstep.core.hookup.sequence import SequenceError, parse_sequence
    from greenstep.core.hookup.waveform_text import meter_words
    from greenstep.core.link import LineSettings

    try:
        sequence = parse_sequence(moves)
    except SequenceError as error:
        raise usage("sequence", str(error), 'write "dtr on, rts off"', evidence=(moves,)) from None
    if seconds is None and not sys.stdin.isatty():
        raise usage("no-terminal", "there is no terminal to end it from", "--seconds")
    wanted = settle(board, settings, how)
    hookup = wanted.hookup
    link = open_board_port(wanted, LineSettings(wanted.baud), hookup.idle_lines, AT_THE_TERMINAL).link
    pins = pins_of(wanted)
    try:
        with link_faults(wanted):
            Driver(link, hookup, pins).run(sequence)
            for line in meter_words(hookup, sequence, wanted.choice.first):
                say(line)
            if seconds is None:
                click.pause("held; any key releases the lines …")
            else:
                sys.stdout.flush()
                _hold(link, seconds)
    finally:
        link.close()
        if pins is not None:
            pins.close()
    return 0


def _hold(link: Link, seconds: float) -> None:
    """Wait, and notice a port that goes away."""
    end = link.now() + seconds
    while (left := end - link.now()) > 0:
        link.read(1, min(0.5, left))


@hookup_command.command("find", short_help="Try the common circuits.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@board_options
@click.option("--console-baud", type=RATE, metavar="RATE", help="Rate of the program that runs. [115200]")
@trace_option
@general_options
def find(board: tuple[str, ...], settings: BoardSettings, how: How) -> int:
    """Find the hookup by trying the common ones and hearing what the chip says. Writes and erases nothing; a program
    that runs is reset several times.

    \b
    greenstep hookup find --port /dev/ttyUSB0
    greenstep hookup find --port /dev/ttyUSB0 --chip stm32
    """
    from .greet import find_hookup

    return find_hookup(board, settings, how)
