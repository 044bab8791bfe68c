"""Which value went to which board: an SQLite file beside the journal.

A value is written down as given before the board is touched, so that whatever happens then, no other board has it.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Iterator, Mapping
from contextlib import closing, contextmanager
from datetime import datetime
from pathlib import Path

from greenstep.core.batch.board_values import COUNT, BoardValues
from greenstep.core.errors import usage
from greenstep.core.frozen import frozen

from .journal_place import journal_file

_NAME = "values.sqlite"
_WAIT_S = 20.0
_CREATE = """CREATE TABLE IF NOT EXISTS given (
    number INTEGER PRIMARY KEY AUTOINCREMENT, series TEXT NOT NULL, line TEXT, count INTEGER, at TEXT NOT NULL,
    unique_id TEXT NOT NULL DEFAULT '', chip TEXT NOT NULL DEFAULT '', outcome TEXT NOT NULL DEFAULT '',
    journal INTEGER NOT NULL DEFAULT 0, UNIQUE (series, line), UNIQUE (series, count))"""


@frozen
class Claim:
    """The values of one board: a row as it is stored, a count, or both. `unique_id` is not empty if the chip with
    that number of its own had them before."""

    number: int
    line: str | None
    count: int | None
    unique_id: str = ""

    @property
    def values(self) -> Mapping[str, str]:
        """By name."""
        return _values(self.line, self.count)


@frozen
class Given:
    """A row of the file. `outcome` is that of the upload; empty while it is not known how it ended."""

    series: str
    values: Mapping[str, str]
    at: str
    unique_id: str
    chip: str
    outcome: str
    journal: int


def values_file() -> Path:
    """Where it is kept. Raises UsageFault if no journal is."""
    journal = journal_file()
    if journal is None:
        raise usage(
            "no-journal",
            "which values were given is kept beside the journal, and none is kept",
            "unset GREENSTEP_JOURNAL",
        )
    return journal.with_name(_NAME)


def claim(path: Path, wanted: BoardValues, unique_id: str = "") -> Claim | None:
    """The next values of the series, from now on given; those that the chip had before, if its own number is known
    and they are still to be had. None if none is left. Raises UsageFault."""
    with _opened(path) as file:
        if unique_id and (before := _before(file, wanted, unique_id)):
            return before
        row: Mapping[str, str] | None = None
        if wanted.rows:
            lines = file.execute("SELECT line FROM given WHERE series = ? AND line NOT NULL", (wanted.series,))
            taken = _names_of(line for (line,) in lines)
            row = next((one for one in wanted.rows if taken.isdisjoint(one.items())), None)
            if row is None:
                return None
        count = None
        if wanted.count_from is not None:
            (last,) = file.execute("SELECT max(count) FROM given WHERE series = ?", (wanted.series,)).fetchone()
            count = wanted.count_from if last is None else max(wanted.count_from, last + 1)
        line = None if row is None else _line(row)
        cursor = file.execute(
            "INSERT INTO given (series, line, count, at) VALUES (?, ?, ?, ?)", (wanted.series, line, count, _now())
        )
        assert cursor.lastrowid is not None
        return Claim(cursor.lastrowid, line, count)


def settle(path: Path, which: Claim, unique_id: str, chip: str, outcome: str, journal: int) -> None:
    """How the upload ended. Raises UsageFault."""
    with _opened(path) as file:
        file.execute(
            "UPDATE given SET at = ?, line = ?, unique_id = ?, chip = ?, outcome = ?, journal = ? WHERE number = ?",
            (_now(), which.line, unique_id or which.unique_id, chip, outcome, journal, which.number),
        )


def hand_back(path: Path, which: Claim) -> None:
    """The board was not touched: another may have them. Raises UsageFault."""
    if not which.unique_id:
        with _opened(path) as file:
            file.execute("DELETE FROM given WHERE number = ?", (which.number,))


def given(path: Path) -> list[Given]:
    """All of them, oldest first. Raises UsageFault."""
    if not path.exists():
        return []
    with _opened(path) as file:
        columns = "series, line, count, at, unique_id, chip, outcome, journal"
        rows = file.execute(f"SELECT {columns} FROM given ORDER BY number")
        return [Given(series, _values(line, count), *rest) for series, line, count, *rest in rows]


def _before(file: sqlite3.Connection, wanted: BoardValues, unique_id: str) -> Claim | None:
    found = file.execute(
        "SELECT number, line, count FROM given WHERE series = ? AND unique_id = ? ORDER BY number DESC LIMIT 1",
        (wanted.series, unique_id),
    ).fetchone()
    if found is None:
        return None
    number, line, count = found
    if (count is None) != (wanted.count_from is None) or (line is None) != (not wanted.rows):
        return None
    if line is not None:
        its = _names_of([line])
        row = next((one for one in wanted.rows if not its.isdisjoint(one.items())), None)
        if row is None:
            return None
        line = _line(row)  # as it is now, if it was corrected
    return Claim(number, line, count, unique_id)


def _names_of(lines: Iterable[str]) -> set[tuple[str, str]]:
    """What given rows go by: the first value of each, with its heading. A row with it is the same one, though other
    values were corrected, and columns added or moved."""
    return {next(iter(json.loads(line).items())) for line in lines}


def _line(row: Mapping[str, str]) -> str:
    return json.dumps(row, ensure_ascii=False)


def _values(line: str | None, count: int | None) -> Mapping[str, str]:
    return {**(json.loads(line) if line else {}), **({COUNT: str(count)} if count is not None else {})}


def _now() -> str:
    return datetime.now().astimezone().isoformat(timespec="seconds")


@contextmanager
def _opened(path: Path) -> Iterator[sqlite3.Connection]:
    """One transaction, on disk when it is left."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with closing(sqlite3.connect(path, timeout=_WAIT_S, isolation_level=None)) as file:
            file.execute("PRAGMA synchronous = FULL")
            file.execute("BEGIN IMMEDIATE")
            file.execute(_CREATE)
            yield file
            file.execute("COMMIT")
    except (sqlite3.Error, OSError, ValueError, TypeError, AttributeError, LookupError, RuntimeError) as error:
        raise usage(
            "values-file", f"{path}: {error}", "make it writable, or move it away: then nothing counts as given"
        ) from None
