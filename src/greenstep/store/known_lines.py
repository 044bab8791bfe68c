"""What was learnt of the lines between this computer's adapters and its boards: an SQLite file beside the journal.

It only saves time: whatever is wrong with the file, nothing is known, and a run goes on without.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from greenstep.core.frozen import frozen

from .journal_place import journal_file

if TYPE_CHECKING:
    import sqlite3

_NAME = "lines.sqlite"
_WAIT_S = 2.0
_RATE_LASTS_DAYS = 30
"""After that a rate is looked for anew: wires and supplies change."""
_CREATE = """CREATE TABLE IF NOT EXISTS line (
    board TEXT NOT NULL, chip TEXT NOT NULL, adapter TEXT NOT NULL,
    baud INTEGER, baud_at TEXT NOT NULL DEFAULT '', hookup TEXT NOT NULL DEFAULT '', waited_s REAL NOT NULL DEFAULT 0,
    at TEXT NOT NULL, PRIMARY KEY (board, chip, adapter))"""


@frozen
class Line:
    """Which line: a board of a project (empty for one that options describe), its chip, and the adapter, by its
    serial number, else its place on the USB, else the port's name."""

    board: str
    chip: str
    adapter: str


@frozen
class Learnt:
    """What is known of a line. `baud` is the highest rate that it carries, None if it was never looked for;
    `waited_s`, how long the person took to enter the bootloader when that was last done by hand, else 0; `at`, when
    a bootloader last answered there."""

    line: Line
    baud: int | None
    baud_at: str
    hookup: str
    waited_s: float
    at: str

    @property
    def recent_baud(self) -> int | None:
        """The rate, unless it was found too long ago."""
        from datetime import datetime

        if self.baud is None:
            return None
        age = datetime.now().astimezone() - datetime.fromisoformat(self.baud_at)
        return None if age.days >= _RATE_LASTS_DAYS else self.baud


def lines_file() -> Path | None:
    """Where it is kept; None if no journal is."""
    journal = journal_file()
    return None if journal is None else journal.with_name(_NAME)


def learnt_of(line: Line) -> Learnt | None:
    """What is known of this very line."""
    found = [one for one in learnt(line.board, line.chip) if one.line == line]
    return found[0] if found else None


def learnt(board: str = "", chip: str = "", adapter: str = "") -> list[Learnt]:
    """What is known of the lines with this board, chip and adapter (empty: any), newest first."""
    path = lines_file()
    if path is None or not path.exists():
        return []
    wanted = {"board": board, "chip": chip, "adapter": adapter}
    named = {name: value for name, value in wanted.items() if value}
    where = " AND ".join(f"{name} = ?" for name in named) or "1"
    import sqlite3

    try:
        with _opened(path) as file:
            rows = file.execute(
                "SELECT board, chip, adapter, baud, baud_at, hookup, waited_s, at FROM line "
                f"WHERE {where} ORDER BY at DESC",
                tuple(named.values()),
            ).fetchall()
        return [Learnt(Line(*row[:3]), *row[3:]) for row in rows]
    except (sqlite3.Error, OSError, ValueError):
        return []


def keep_rate(line: Line, baud: int) -> str:
    """Remember the highest rate of a line. Returns what went wrong, empty if nothing did."""
    now = _now()
    return _write(
        "INSERT INTO line (board, chip, adapter, baud, baud_at, at) VALUES (?, ?, ?, ?, ?, ?) "
        "ON CONFLICT DO UPDATE SET baud = excluded.baud, baud_at = excluded.baud_at, at = excluded.at",
        (line.board, line.chip, line.adapter, baud, now, now),
    )


def keep_hookup(line: Line, hookup: str, waited_s: float) -> str:
    """Remember how a bootloader was entered. Returns what went wrong, empty if nothing did."""
    return _write(
        "INSERT INTO line (board, chip, adapter, hookup, waited_s, at) VALUES (?, ?, ?, ?, ?, ?) "
        "ON CONFLICT DO UPDATE SET hookup = excluded.hookup, waited_s = excluded.waited_s, at = excluded.at",
        (line.board, line.chip, line.adapter, hookup, waited_s, _now()),
    )


def _now() -> str:
    from datetime import datetime

    return datetime.now().astimezone().isoformat(timespec="seconds")


def _write(statement: str, values: tuple[object, ...]) -> str:
    path = lines_file()
    if path is None:
        return ""
    import sqlite3

    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with _opened(path) as file:
            file.execute(statement, values)
    except (sqlite3.Error, OSError) as error:
        return f"{path}: {error}"
    return ""


@contextmanager
def _opened(path: Path) -> Iterator[sqlite3.Connection]:
    import sqlite3

    with closing(sqlite3.connect(path, timeout=_WAIT_S, isolation_level=None)) as file:
        file.execute(_CREATE)
        yield file
