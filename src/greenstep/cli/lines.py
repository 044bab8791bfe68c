"""`greenstep lines`: show, try, hold and learn."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .completing import complete_board
from .faults import faults_as_asked
from .options import (
    RATE,
    Engineering,
    Real,
    board_options,
    general_options,
    open_options,
    trace_option,
    wired_options,
)

if TYPE_CHECKING:
    from greenstep.core.chips import Choice
    from greenstep.core.hookup import Hookup, Sequence
    from greenstep.core.hookup.waveform import Electrics, Waveform
    from greenstep.core.link import Link
    from greenstep.store.board import BoardSettings

_LISTEN_S = 1.5


@click.group("lines", short_help="Draw, run, hold or learn DTR and RTS.")
def command() -> None:
    """How DTR and RTS move the pins reset and boot: drawn with their voltages, run once, held still for a meter, or
    found out by trying."""


_OF = click.option(
    "--of", "which", type=click.Choice(["enter", "leave"]), default="enter", help="Which sequence. [enter]"
)


@command.command("show")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@_OF
@wired_options
@click.option("--volts", type=Engineering("V"), metavar="V", help="Supply. [the chip's usual]")
@click.option("--pull-up", type=Engineering("ohm"), metavar="OHM", help="Pull-up at reset. [10k]")
@click.option("--reset-capacitor", type=Engineering("F"), metavar="F", help="Reset to ground. [none; cross pair 1u]")
@click.option("--coupling", type=Engineering("F"), metavar="F", help="Capacitor between line and reset. [100n]")
@click.option("--save", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE", help="A figure: PNG, SVG.")
@general_options
def show(board: tuple[str, ...], which: str, save: Path | None, as_json: bool, **options: Any) -> int:
    """Draw a sequence: DTR, RTS, reset and boot over time, in volts. Touches no port.

    \b
    greenstep lines show brood-probe
    greenstep lines show --chip esp32 --hookup cross-pair --reset-capacitor 10u --save lines.png
    """
    from greenstep.core.hookup.waveform import draw_waveform, warnings

    with faults_as_asked(as_json):
        name, _, choice, hookup = _board(board, {**options, "as_json": as_json})
        part = choice.first
        sequence = hookup.enter if which == "enter" else hookup.leave
        if sequence is None or hookup.reset is None:
            return _by_hand(choice, which, as_json, hookup, sequence)
        electrics = _electrics(hookup, part.wires.volts, options)
        drawn = draw_waveform(hookup, sequence, electrics, part.boot_level)
        warned = warnings(hookup, sequence, electrics, part.boot_level, which == "enter", part.wires.shortest_reset_s)
        low, high = part.wires.volts_range
        if not low <= electrics.volts <= high:
            warned = (f"{electrics.volts:g} V: the {part.title} stands {low:g} to {high:g} V", *warned)
        chip = choice.single.title if choice.single else choice.name
        title = "   ".join(word for word in (name, chip, hookup.name, which, f"{electrics.volts:g} V") if word)
        if save is not None:
            from greenstep.draw.kinds import check_kind

            check_kind(save)
            from greenstep.draw.lines_figure import save_lines

            save_lines(save, drawn, f"{title}\n{sequence}", part.boot_level, warned)
    if as_json:
        _show_json(drawn, sequence, hookup, warned)
    else:
        _show_text(drawn, title, sequence, warned)
        if save is not None:
            click.echo(f"\nsaved {save}")
    return 0


def _board(words: tuple[str, ...], options: Mapping[str, Any]) -> tuple[str, BoardSettings, Choice, Hookup]:
    from .target import find_chip, hookup_of, settle

    name, said = settle(words, options)
    choice = find_chip(said)
    return name, said, choice, hookup_of(said, choice)


def _electrics(hookup: Hookup, volts: float, options: Mapping[str, Any]) -> Electrics:
    from greenstep.core.hookup.waveform import Electrics

    usual = Electrics.usual(hookup, volts)
    given = {
        "volts": options.get("volts"),
        "pull_up_ohm": options.get("pull_up"),
        "reset_farad": options.get("reset_capacitor"),
        "coupling_farad": options.get("coupling"),
    }
    return replace(usual, **{key: value for key, value in given.items() if value is not None})


def _by_hand(choice: Choice, which: str, as_json: bool, hookup: Hookup, sequence: Sequence | None) -> int:
    """No line reaches reset: what a person does is the sequence."""
    moves = choice.hands.enter if which == "enter" else choice.hands.leave
    if as_json:
        from .json_view import JsonView

        JsonView().line("by-hand", {"moves": list(moves)})
        return 0
    click.echo(f"{hookup.name}: no line moves reset" + (f"; {sequence}" if sequence else "; by hand it is:"))
    for number, move in enumerate(moves, 1):
        click.echo(f"  {number}. {move}")
    return 0


def _show_text(drawn: Waveform, title: str, sequence: Sequence, warned: tuple[str, ...]) -> None:
    from greenstep.core.hookup.lanes import text_lanes

    from .signs import shows_signs

    plain = not shows_signs(sys.stdout)
    lanes = text_lanes(drawn, 92, plain)
    click.echo(f"{title}\n\n  {sequence}\n")
    for lane, bars in lanes.lanes:
        click.echo(f"  {lane:<7}{bars}")
    click.echo(f"  {'':<7}{lanes.ruler}")
    for pulse in drawn.pulses:
        if pulse.sampled_s is not None:
            from greenstep.core.hookup.words import sampling_words

            mark = "^" if plain else "▲"
            click.echo(f"  {'':<7}{'':<{lanes.column(pulse.sampled_s)}}{mark} {sampling_words(pulse, drawn)}")
    click.echo()
    for pulse in drawn.pulses:
        if pulse.end_s is not None:
            click.echo(f"  reset is low for {(pulse.end_s - pulse.start_s) * 1000:.3g} ms")
    for warning in warned:
        click.echo(f"  ! {warning}")
    click.echo("  computed from the circuit; to measure: greenstep lines hold")


def _show_json(drawn: Waveform, sequence: Sequence, hookup: Hookup, warned: tuple[str, ...]) -> None:
    from .json_view import JsonView

    JsonView().line(
        "waveform",
        {
            "hookup": hookup.name,
            "sequence": str(sequence),
            "volts": drawn.volts,
            "end_s": round(drawn.end_s, 6),
            "moves": [{"at_s": round(move.at_s, 6), "dtr": move.dtr, "rts": move.rts} for move in drawn.moves],
            "lanes": {
                lane.name: [
                    {"from_s": round(s.start_s, 6), "from_v": round(s.from_v, 3), "to_v": s.to_v, "tau_s": s.tau_s}
                    for s in lane.stretches
                ]
                for lane in drawn.lanes
            },
            "pulses": [
                {
                    "start_s": round(p.start_s, 6),
                    "end_s": None if p.end_s is None else round(p.end_s, 6),
                    "sampled_s": None if p.sampled_s is None else round(p.sampled_s, 6),
                    "boot_selected": p.boot_selected,
                }
                for p in drawn.pulses
            ],
            "warnings": list(warned),
        },
    )


# --- on a real port


def _open(said: BoardSettings, hookup: Hookup, settings: Any, options: Mapping[str, Any]) -> Link:
    from .port_choice import open_said

    return open_said(said, settings, hookup.idle_lines, options).link


@command.command("try")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@_OF
@open_options
@click.option("--console-baud", type=RATE, metavar="RATE", help="Rate at which to listen afterwards. [--baud]")
@trace_option
@general_options
def try_(board: tuple[str, ...], which: str, as_json: bool, **options: Any) -> int:
    """Run a sequence once, and tell what is heard after it. Asks nothing and writes nothing."""
    from greenstep.core.hookup import Driver
    from greenstep.core.link import LineSettings
    from greenstep.core.survey.meaning import meaning_of

    from .port_choice import link_faults

    with faults_as_asked(as_json):
        name, said, choice, hookup = _board(board, {**options, "as_json": as_json})
        sequence = hookup.enter if which == "enter" else hookup.leave
        if sequence is None:
            return _by_hand(choice, which, as_json, hookup, None)
        settings = LineSettings(said.console_baud or said.baud or choice.first.baud)
        link = _open(said, hookup, settings, {**options, "board": name})
        try:
            with link_faults(said):
                link.discard()
                Driver(link, hookup).run(sequence)
                heard = link.read(400, _LISTEN_S)
        finally:
            link.close()
        meaning = meaning_of(heard, settings)
    if as_json:
        from .json_view import JsonView

        JsonView().line("tried", {"sequence": str(sequence), "kind": meaning.kind, "heard": meaning.words})
    else:
        click.echo(f"{sequence}\n{settings}: {meaning.words}")
        if meaning.kind == "nothing" and which == "enter":
            click.echo("a bootloader that waits is silent: greenstep greet asks it")
    return 0


@command.command("hold")
@click.argument("moves")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@click.option("--seconds", type=Real(0, 86400), metavar="SECONDS", help="Hold so long, and ask for no key.")
@open_options
@general_options
def hold(moves: str, board: tuple[str, ...], seconds: float | None, as_json: bool, **options: Any) -> int:
    """Set lines or pins and hold them, to measure with a meter; a key ends it, and the lines are released.

    \b
    greenstep lines hold "dtr on, rts off" --port /dev/ttyUSB0 --chip avr
    greenstep lines hold "boot on; reset on" brood-probe
    """
    from greenstep.core.errors import usage
    from greenstep.core.hookup import Driver, SequenceError, parse_sequence
    from greenstep.core.link import LineSettings

    from .port_choice import link_faults

    with faults_as_asked(as_json):
        try:
            sequence = parse_sequence(moves)
        except SequenceError as error:
            raise usage("sequence", str(error), 'write "dtr on, rts off"', evidence=(moves,)) from None
        if seconds is None and not sys.stdin.isatty():
            raise usage("no-terminal", "there is no terminal whose key could end it", "--seconds")
        _, said, choice, hookup = _board(board, {**options, "as_json": as_json})
        link = _open(said, hookup, LineSettings(said.baud or choice.first.baud), {**options, "trace": None})
        try:
            with link_faults(said):
                Driver(link, hookup).run(sequence)
                for line in _expected_volts(hookup, sequence, choice):
                    click.echo(line)
                if seconds is None:
                    click.pause("held; any key releases the lines …")
                else:
                    sys.stdout.flush()
                    _hold(link, seconds)
        finally:
            link.close()
    return 0


def _hold(link: Link, seconds: float) -> None:
    """Wait, and notice a port that goes away."""
    end = link.now() + seconds
    while (left := end - link.now()) > 0:
        link.read(1, min(0.5, left))


def _expected_volts(hookup: Hookup, sequence: Sequence, choice: Choice) -> list[str]:
    """Where a meter should find what."""
    from greenstep.core.hookup.waveform import draw_waveform

    part = choice.first
    electrics = _electrics(hookup, part.wires.volts, {})
    drawn = draw_waveform(hookup, sequence, electrics, part.boot_level)
    last = drawn.moves[-1] if drawn.moves else None
    dtr, rts = (last.dtr, last.rts) if last else hookup.idle_lines
    lines = [
        f"{name:<6} {'asserted: 0 V' if asserted else 'released: the supply'} at the adapter's pin"
        for name, asserted in (("DTR", dtr), ("RTS", rts))
    ]
    for lane in drawn.lanes[2:]:
        through = hookup.reset is not None and hookup.reset.through == "capacitor" and lane.name == "reset"
        words = "back at the supply: a capacitor passes edges only" if through else f"{lane.at(drawn.end_s):.1f} V"
        lines.append(f"{lane.name:<6} {words}" + ("" if through else f" with {drawn.volts:g} V supply"))
    return lines


@command.command("learn")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@board_options
@click.option("--console-baud", type=RATE, metavar="RATE", help="Rate of the program that runs. [115200]")
@trace_option
@general_options
def learn(board: tuple[str, ...], as_json: bool, **options: Any) -> int:
    """Find the hookup by trying the common ones and hearing what the chip says. Writes and erases nothing; a program
    that runs is reset several times.

    \b
    greenstep lines learn --port /dev/ttyUSB0
    greenstep lines learn --port /dev/ttyUSB0 --chip stm32
    """
    from .survey import learn_lines

    with faults_as_asked(as_json):
        return learn_lines(board, {**options, "as_json": as_json})
