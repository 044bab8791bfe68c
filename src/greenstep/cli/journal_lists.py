"""What `greenstep journal` lists besides uploads, and what it clears."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from datetime import datetime
from pathlib import Path

from greenstep.core.quantities import count

from .consent import consented
from .json_view import json_line
from .screen import say


def given_values(as_json: bool) -> int:
    """Which values went to which chip. Returns the exit status. Raises UsageFault."""
    from greenstep.store.given_values import given, values_file

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
    if as_json:
        json_line("cleared", number=number)
    else:
        say(f"{count(number, what)} removed")
