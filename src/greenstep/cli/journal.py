"""`greenstep journal`: uploads on record, what else it lists, and what it clears."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from dataclasses import asdict
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, TextIO

import click

from greenstep.core.quantities import count, show_seconds

from .fault_view import explained_lines, faults_as_asked, wrapped
from .options import Whole
from .prompts import consented
from .screen import painted, say, say_all, side_by_side

if TYPE_CHECKING:
    from greenstep.core.journal.records import JournalEntry
    from greenstep.store.journal import Held, JournalRow, Wanted


_OUTCOMES = ("green", "unproven", "failed", "interrupted")
_SIGNS = {"green": "●", "unproven": "◐", "failed": "✗", "interrupted": "✗"}
_COLOURS = {"green": "green", "unproven": "yellow", "failed": "red", "interrupted": "red"}


@click.command("journal", short_help="Every upload on record.")
@click.argument("number", type=Whole(1, None), required=False, metavar="[NUMBER]")
@click.option("--board", default="", metavar="NAME", help="Of this board.")
@click.option("--chip", default="", metavar="NAME|NUMBER", help="Of this chip, by kind or by unique id.")
@click.option("--port", default="", metavar="PORT", help="Through this port.")
@click.option("--image", default="", metavar="NAME|SUM|TEXT", help="By file name, beginning of a sum, or version.")
@click.option("--outcome", type=click.Choice(_OUTCOMES), default=None, help="With this outcome.")
@click.option("--since", default="", metavar="DATE|DAYS", help="Since a date, 2026-11-02, or this many days back: 7.")
@click.option("--until", default="", metavar="DATE|DAYS", help="Up to a date, or this many days back.")
@click.option("--last", type=Whole(0, None), default=None, metavar="NUMBER", help="How many rows; 0: all. [20]")
@click.option("--on-chips", is_flag=True, help="What is on which chip, and which have an old image.")
@click.option("--values", is_flag=True, help="Values of their own that boards of a batch were given.")
@click.option("--put-aside", is_flag=True, help="Bytes saved before an erase that no chip got back.")
@click.option("--clear", is_flag=True, help="Remove what is listed, after asking.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@click.option("--csv", "as_csv", is_flag=True, help="As CSV, with a heading row.")
@click.option("--save", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
              help="Draw durations and failures over time: PNG, SVG.")  # fmt: skip
@click.option("--json", "as_json", is_flag=True, help="One row per line, for programs.")
def journal_command(
    number: int | None, board: str, chip: str, port: str, image: str, outcome: str | None, since: str, until: str,
    last: int | None, on_chips: bool, values: bool, put_aside: bool, clear: bool, yes: bool, as_csv: bool,
    save: Path | None, as_json: bool,
) -> int:  # fmt: skip
    """Every upload, backup, erase, lock and unlock on record: the last twenty, those that are asked for, or one by
    its number with all that is known of it.

    \b
    greenstep journal --board hive-scale --since 30
    greenstep journal 42
    greenstep journal --on-chips
    greenstep journal --last 0 --csv > uploads.csv
    greenstep journal --until 365 --clear
    """
    from greenstep.core.errors import usage
    from greenstep.store.journal import JournalTrouble, Wanted, held, rows
    from greenstep.store.journal import row as one_row
    from greenstep.store.journal_place import journal_file

    with faults_as_asked(as_json):
        if sum((number is not None, on_chips, values, put_aside)) > 1:
            raise usage("one-list", "NUMBER, --on-chips, --values, --put-aside: only one of these")
        if clear and (number is not None or on_chips or values or save is not None or as_csv):
            why = "values stay: else one could be given twice" if values else "rows are cleared as they are listed"
            raise usage("clear", f"--clear goes with rows or with --put-aside; {why}")
        if put_aside:
            return aside_files(clear, yes, as_json)
        if values:
            return given_values(as_json)
        path = journal_file()
        if path is None:
            raise usage("no-journal", "no journal is kept: GREENSTEP_JOURNAL is 'none'", "unset it")
        everything = save is not None or as_csv or clear
        most = last if last is not None else 0 if everything else 20
        wanted = Wanted(board, chip, port, image, outcome or "", _since(since), most, _since(until, "--until"))
        try:
            if number is not None:
                found = one_row(path, number)
                if found is None:
                    raise usage(
                        "no-such-row", f"the journal has no number {number}", "greenstep journal lists the rows"
                    )
                return _show(found, as_json, as_csv)
            if on_chips:
                return _held(held(path), as_json)
            listed = rows(path, wanted)
            if clear:
                return clear_rows(path, [found.number for found in listed], yes, as_json)
        except JournalTrouble as trouble:
            raise usage(
                "journal", f"the journal cannot be read: {trouble}", "move it away, and a new one is begun"
            ) from None
        if save is not None:
            return _draw(save, listed, wanted)
    if as_csv:
        _as_csv(listed, sys.stdout)
    elif as_json:
        for found in listed:
            _json_row(found)
    else:
        _list(listed, wanted)
    return 0


def _since(text: str, option: str = "--since") -> str:
    """A date, or days back, as the beginning of a time in the journal. Raises UsageFault."""
    from greenstep.core.errors import usage

    if not text:
        return ""
    if text.isdecimal() and len(text) < 5:
        return (datetime.now() - timedelta(days=int(text))).isoformat(timespec="seconds")
    try:
        return datetime.fromisoformat(text).isoformat(timespec="seconds")
    except ValueError:
        raise usage("since", f"{option} {text} is not a date", "write 2026-11-02, or a number of days: 7") from None


def _list(listed: Sequence[JournalRow], wanted: Wanted) -> None:
    import shutil

    if not listed:
        say("nothing on record" + ("" if wanted == type(wanted)() else " that is like this"))
        return
    most = shutil.get_terminal_size().columns if sys.stdout.isatty() else 1000
    digits = len(str(listed[0].number))
    whos = [found.entry.board or found.entry.chip for found in listed]
    whats = [_what(found.entry) for found in listed]
    width, wide = max(len(who) for who in whos), max(len(what) for what in whats)
    for found, who, what in zip(listed, whos, whats, strict=True):
        entry = found.entry
        sign = _SIGNS[entry.outcome]
        why = entry.version if entry.exit_code == 0 else _cause(entry.finding) or entry.outcome
        head = f"{found.number:>{digits}}  {entry.at[:16].replace('T', ' ')}  "
        line = f" {who:<{width}}  {what:<{wide}}  {show_seconds(entry.seconds):>7}"
        after = f"  {_cut(why, most - len(head + sign + line) - 2)}" if why else ""
        say(side_by_side(head, painted(sign, fg=_COLOURS[entry.outcome]), line, after))
    if wanted.last and len(listed) == wanted.last:
        say("", f"the last {wanted.last}; --last 0 shows all")


def _cut(text: str, size: int) -> str:
    """What a row of the terminal has room for, and at least twenty letters."""
    return text if len(text) <= max(20, size) else text[: max(20, size) - 1].rstrip() + "…"


def _cause(key: str) -> str:
    """What a finding means."""
    from greenstep.core.findings.explained import explanations

    known = explanations().get(key)
    return f"{known.cause[0].lower()}{known.cause[1:-1]}" if known else key


def _what(entry: JournalEntry) -> str:
    """The image and its sum; what was done if that was no upload."""
    what = entry.image if entry.purpose == "upload" else entry.purpose
    return f"{what} {entry.crc32}".rstrip()


def _show(found: JournalRow, as_json: bool, as_csv: bool) -> int:
    if as_json:
        _json_row(found)
        return 0
    if as_csv:
        _as_csv([found], sys.stdout)
        return 0
    entry = found.entry
    say(f"{found.number}   {entry.purpose}   {entry.board or entry.chip}   {entry.outcome}", "")
    rows = (
        ("when", entry.at.replace("T", " ")),
        ("chip", entry.chip + (f", {entry.unique_id}" if entry.unique_id else "")),
        ("port", f"{entry.port}, {entry.line}"),
        ("image", f"{entry.image}, {count(entry.image_bytes, 'byte')}" if entry.image else ""),
        ("version", entry.version),
        ("its own", entry.own_values),
        ("crc32", entry.crc32),
        ("sha256", entry.sha256),
        ("took", f"{show_seconds(entry.seconds)}" + _writing(entry.write_seconds)),
        ("verified", entry.proof),
        ("evidence", entry.evidence),
        ("finding", f"{entry.finding}, exit status {entry.exit_code}" if entry.finding else ""),
    )
    for label, text in rows:
        if text:
            say_all(wrapped(f" {label:<10} {text}", 100, 12))
    if entry.finding:
        from greenstep.core.findings.explained import explanations

        if entry.finding in explanations():
            say("", *explained_lines(explanations()[entry.finding]))
    return 0


def _writing(seconds: float) -> str:
    return f", {show_seconds(seconds)} of it writing" if seconds else ""


def _held(found: Sequence[Held], as_json: bool) -> int:
    from .json_view import json_line

    if as_json:
        from .json_view import json_line

        for one in found:
            newest = one.newest.number if one.newest else None
            json_line("on-chip", **_plain(one.row), old=newest is not None, newest=newest)
        return 0
    if not found:
        say("no chip with a number of its own is on record")
        return 0
    width = max(len(one.row.entry.board or one.row.entry.chip) for one in found)
    for one in found:
        entry = one.row.entry
        who = entry.board or entry.chip
        say(
            f"{entry.unique_id}  {who:<{width}}  {entry.image} {entry.crc32}"
            + (f"  {entry.version}" if entry.version else "")
            + f"  {entry.at[:10]}"
        )
        if one.newest:
            newer = one.newest.entry
            said = f": {newer.version}" if newer.version else ""
            say(painted(f"  old: {newer.crc32} is newer{said}, {newer.at[:10]} ({one.newest.number})", fg="yellow"))
    return 0


def _plain(found: JournalRow) -> dict[str, object]:
    return {"number": found.number, **asdict(found.entry)}


def _json_row(found: JournalRow) -> None:
    from .json_view import json_line

    json_line("journal", **_plain(found))


def _as_csv(listed: Sequence[JournalRow], stream: TextIO) -> None:
    import csv
    from dataclasses import fields

    from greenstep.core.journal.records import JournalEntry
    from greenstep.store.csv_files import safe_cell

    names = ["number", *(field.name for field in fields(JournalEntry))]
    writer = csv.DictWriter(stream, names, lineterminator="\n")
    writer.writeheader()
    writer.writerows({name: safe_cell(value) for name, value in _plain(found).items()} for found in listed)


def _draw(save: Path, listed: Sequence[JournalRow], wanted: Wanted) -> int:
    from greenstep.core.errors import usage
    from greenstep.draw.kinds import check_kind

    if not listed:
        raise usage("no-rows", "nothing on record to draw", "greenstep journal lists what there is")
    check_kind(save)
    from greenstep.draw.journal_figure import save_journal

    said = ", ".join(text for text in (wanted.board, wanted.chip, wanted.port, wanted.image, wanted.outcome) if text)
    save_journal(save, [found.entry for found in listed], said)
    say(f"saved {save}: {count(len(listed), 'row')}")
    return 0


def given_values(as_json: bool) -> int:
    """Which values went to which chip. Returns the exit status. Raises UsageFault."""
    from greenstep.store.given_values import given, values_file

    from .json_view import json_line

    found = given(values_file())
    if not found and not as_json:
        say("no value was given")
    for one in found:
        if as_json:
            json_line("value", **asdict(one))
            continue
        said = ", ".join(f"{name}={value}" for name, value in one.values.items())
        whose = " ".join(text for text in (one.chip, one.unique_id) if text) or "not known to whom"
        row = f"  journal {one.journal}" if one.journal else ""
        say(f"{one.series}  {said}  {one.at[:16].replace('T', ' ')}  {whose}  {one.outcome or 'no end'}{row}")
    return 0


def aside_files(clear: bool, yes: bool, as_json: bool) -> int:
    """The files with bytes that no chip got back; remove them if the person agrees. Raises UsageFault."""
    from greenstep.core.errors import usage
    from greenstep.store.aside import aside_files as kept
    from greenstep.store.aside import aside_folder

    from .json_view import json_line

    found = kept()
    for path in found:
        at = datetime.fromtimestamp(path.stat().st_mtime).astimezone().isoformat(timespec="seconds")
        if as_json:
            json_line("put-aside", file=path, at=at, bytes=path.stat().st_size)
        else:
            say(f"{at[:16].replace('T', ' ')}  {path}")
    if not found:
        if not as_json:
            say(f"nothing is put aside in {aside_folder()}")
        return 0
    if not clear:
        if not as_json:
            say("", "to put one back: greenstep restore BOARD FILE")
        return 0
    consented(f"Remove {count(len(found), 'file')}? No upload may be under way.", yes)
    for path in found:
        try:
            path.unlink(missing_ok=True)
        except OSError as error:
            raise usage("clear", f"{path}: {error.strerror or error}") from None
    _said(len(found), "file", as_json)
    return 0


def clear_rows(path: Path, numbers: Sequence[int], yes: bool, as_json: bool) -> int:
    """Remove these rows if the person agrees. Raises UsageFault, JournalTrouble."""
    from greenstep.store.journal import clear

    if numbers:
        consented(f"Remove {count(len(numbers), 'row')} of {path}?", yes)
        clear(path, numbers)
    _said(len(numbers), "row", as_json)
    return 0


def _said(number: int, what: str, as_json: bool) -> None:
    from .json_view import json_line

    if as_json:
        json_line("cleared", number=number)
    else:
        say(f"{count(number, what)} removed")
