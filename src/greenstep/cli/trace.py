"""`greenstep trace`"""

from __future__ import annotations

import io
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from greenstep.core.quantities import count, show_seconds

from .fault_view import faults_as_asked
from .screen import say

if TYPE_CHECKING:
    from greenstep.core.dialects.dialect import Dialect
    from greenstep.core.trace.exchanges import Shares
    from greenstep.core.trace.recording import Trace
    from greenstep.core.trace.story import TraceRow


@click.group("trace", short_help="Read a recording of the line.")
def trace_command() -> None:
    """Recordings of the line, made by --trace FILE of every command that opens a port. They are value change dumps
    (VCD, IEEE 1364): any waveform viewer opens them."""


@trace_command.command("show")
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False))
@click.option("--dialect", metavar="NAME", help="Decode as this dialect, instead of the recorded one.")
@click.option("--all", "every", is_flag=True, help="Every exchange in a row of its own.")
@click.option("--save", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE", help="A figure: PNG, SVG.")
@click.option("--json", "as_json", is_flag=True, help="One row per line, for programs.")
def show(file: Path, dialect: str | None, every: bool, save: Path | None, as_json: bool) -> int:
    """Where the time went, and what was said, decoded.

    \b
    greenstep upload hive-scale --trace hive.vcd
    greenstep trace show hive.vcd --save hive.png
    """
    from greenstep.core.trace.exchanges import exchanges_of, time_shares
    from greenstep.core.trace.story import explain_trace

    with faults_as_asked(as_json):
        trace = _read(file)
        spoken = _dialect(dialect or trace.notes.get("dialect", ""), bool(dialect))
        exchanges = exchanges_of(trace)
        shares = time_shares(trace)
        told = explain_trace(trace, exchanges, spoken, joined=not every)
        notes = [trace.notes.get(name, "") for name in ("board", "chip", "dialect", "hookup", "port")]
        title = "   ".join([file.name, *(note for note in notes if note)])
        if save is not None:
            from greenstep.draw.kinds import check_kind

            check_kind(save)
            from greenstep.draw.trace_figure import save_trace

            save_trace(save, trace, told, shares, title)
    if as_json:
        _as_json(trace, told, shares)
        return 0
    say(title, "")
    _time(trace, shares)
    say()
    _story(told)
    if save is not None:
        say("", f"saved {save}")
    return 0


def _read(file: Path) -> Trace:
    """Raises UsageFault."""
    from greenstep.core.errors import usage
    from greenstep.core.safety.plain_files import open_plain
    from greenstep.core.trace.vcd import VcdError, read_vcd

    try:
        with io.TextIOWrapper(open_plain(file), "ascii", errors="replace") as stream:
            return read_vcd(stream)
    except FileNotFoundError:
        raise usage("no-such-file", f"there is no file {file}") from None
    except OSError as error:
        raise usage("unreadable-file", f"{file} cannot be read: {error.strerror}") from None
    except VcdError as error:
        raise usage("trace-file", f"{file.name}: {error}", "record one with --trace FILE") from None


def _dialect(name: str, asked: bool) -> type[Dialect] | None:
    """The dialect to decode by; a recording of one that is not here is shown undecoded."""
    from greenstep.core.dialects.registry import dialect_names, find_dialect

    if not name or (not asked and name not in dialect_names()):
        return None
    return find_dialect(name)


def _time(trace: Trace, shares: Shares) -> None:
    sent = sum(byte.way == "sent" for byte in trace.bytes_seen)
    heard = len(trace.bytes_seen) - sent
    rows = (
        ("sending", shares.sending_s, count(sent, "byte")),
        ("hearing", shares.hearing_s, count(heard, "byte")),
        ("chip busy", shares.busy_s, "answers that took longer than the line's turn"),
        ("turns", shares.turns_s, f"{count(shares.turns, 'answer')}, the line's turn {show_seconds(shares.turn_s)}"),
        ("no answer", shares.unanswered_s, "asked, and nothing came"),
        ("lines", shares.lines_s, "while DTR and RTS were moved, and what followed"),
        ("between", shares.own_s, "before the next question"),
    )
    for name, seconds, words in rows:
        share = 100 * seconds / shares.total_s if shares.total_s else 0.0
        say(f" {name:<10} {show_seconds(seconds):>7}  {share:>3.0f} %   {words}")
    say(f" {'whole':<10} {show_seconds(shares.total_s):>7}")


def _story(told: Sequence[TraceRow]) -> None:
    for row in told:
        times = f"{row.times} x " if row.times > 1 else ""
        took = show_seconds(row.took_s) if row.took_s else ""
        say(f" {row.at_s:>8.3f}  {took:>7}  {f'{times}{row.what}':<28} {row.detail}".rstrip())


def _as_json(trace: Trace, told: Sequence[TraceRow], shares: Shares) -> None:
    from .json_view import json_line, plain

    json_line("trace", notes=dict(trace.notes), bytes=len(trace.bytes_seen), **plain(shares))
    for row in told:
        json_line("exchange", **plain(row))
