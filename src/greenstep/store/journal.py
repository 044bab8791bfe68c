"""The journal: every upload on record, in an SQLite file of this user's."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import closing, suppress
from dataclasses import astuple, fields
from datetime import datetime
from pathlib import Path
from typing import Any

from greenstep.core.frozen import frozen
from greenstep.core.image.granules import Granules, Remembered, unpacked
from greenstep.core.journal.records import OUTCOMES, JournalEntry
from greenstep.core.safety.harmless_text import harmless

_WAIT_S = 20.0  # for other writers; a row takes them milliseconds, but there may be a hundred on a slow disk
_COLUMNS = tuple(field.name for field in fields(JournalEntry))
_KINDS = {"int": "INTEGER", "float": "REAL", "str": "TEXT"}
_TYPES: tuple[Any, ...] = tuple(
    {"int": int, "float": (int, float), "str": str}[str(field.type)] for field in fields(JournalEntry)
)
_NEWEST_FORMAT = 3
_SINCE_3 = ("own_values", "common_sha256")

_CREATE = (
    "CREATE TABLE IF NOT EXISTS climb (number INTEGER PRIMARY KEY AUTOINCREMENT, "
    + ", ".join(f"{field.name} {_KINDS[str(field.type)]} NOT NULL" for field in fields(JournalEntry))
    + ")",
    "CREATE INDEX IF NOT EXISTS climb_by_chip ON climb (unique_id, outcome, purpose, number)",
    "CREATE INDEX IF NOT EXISTS climb_by_board ON climb (board, outcome, purpose, number)",
    "CREATE TABLE IF NOT EXISTS content "
    "(unique_id TEXT PRIMARY KEY, number INTEGER NOT NULL, granules BLOB NOT NULL)",
)


class JournalTrouble(Exception):
    """The journal cannot be read or written; the message says which file and why. `damaged`: it is not what was
    written, and will not become so again."""

    def __init__(self, message: str, damaged: bool = False) -> None:
        super().__init__(message)
        self.damaged = damaged

    @classmethod
    def of(cls, path: Path, error: Exception) -> JournalTrouble:
        """From what SQLite, the system or a text raises."""
        words = _words(error)
        told = isinstance(error, sqlite3.Error) and any(sign in words.lower() for sign in _DAMAGE)
        return cls(f"{path}: {words}", told or not isinstance(error, sqlite3.Error | OSError))


_DAMAGE = ("malformed", "not a database", "corrupt", "could not decode")
"""In SQLite's messages about a file that is not what it wrote."""
_TROUBLES = (sqlite3.Error, OSError, ValueError, TypeError, OverflowError)
"""What reading a damaged file raises: texts that are none, numbers too large, columns that lack a value."""


@frozen
class JournalRow:
    """An entry with its number."""

    number: int
    entry: JournalEntry


@frozen
class Wanted:
    """Which rows: of a board, a chip's name or number, a port, an outcome, from one time to another (ISO 8601); the
    last so many (0: all). Empty: any."""

    board: str = ""
    chip: str = ""
    port: str = ""
    image: str = ""
    outcome: str = ""
    since: str = ""
    last: int = 20
    until: str = ""


@frozen
class Held:
    """What a chip holds by its last good upload, and whether its board has had a newer image since, on this chip or
    another: then `newest` is that row."""

    row: JournalRow
    newest: JournalRow | None


def record(path: Path, entry: JournalEntry, granules: Granules | None = None) -> int:
    """Add a row; the file is created if there is none. `granules` is what was written to the chip's flash, stored for
    the newest upload of each chip. Returns the row's number. Raises JournalTrouble."""
    marks = ", ".join("?" * len(_COLUMNS))
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with closing(sqlite3.connect(path, timeout=_WAIT_S, isolation_level=None)) as file:
            _prepare(file, path)
            file.execute("BEGIN IMMEDIATE")
            values = [harmless(value) if isinstance(value, str) else value for value in astuple(entry)]
            cursor = file.execute(f"INSERT INTO climb ({', '.join(_COLUMNS)}) VALUES ({marks})", values)
            assert cursor.lastrowid is not None
            if granules is not None and entry.unique_id:
                held = (entry.unique_id, cursor.lastrowid, granules.packed())
                file.execute("INSERT OR REPLACE INTO content VALUES (?, ?, ?)", held)
            file.execute("COMMIT")
            return cursor.lastrowid
    except _TROUBLES as error:
        raise JournalTrouble.of(path, error) from error


def rows(path: Path, wanted: Wanted) -> list[JournalRow]:
    """The wanted rows, newest first. Raises JournalTrouble."""
    where, values = _conditions(wanted)
    limit = f" LIMIT {wanted.last}" if wanted.last else ""
    return list(_query(path, f"{where} ORDER BY number DESC{limit}", values))


def row(path: Path, number: int) -> JournalRow | None:
    """One row by its number. Raises JournalTrouble."""
    return next(_query(path, "WHERE number = ?", (number,)), None)


def held(path: Path) -> list[Held]:
    """What is on each chip that reported a number of its own, newest first. Raises JournalTrouble."""
    good = "purpose IN ('upload', 'restore') AND outcome IN ('green', 'unproven')"
    latest = "WHERE number IN (SELECT max(number) FROM climb WHERE {0} GROUP BY {1}) ORDER BY number DESC"
    by_board = {found.entry.board: found for found in _query(path, latest.format(f"{good} AND board != ''", "board"))}
    result = []
    for found in _query(path, latest.format(f"{good} AND unique_id != ''", "unique_id")):
        newest = by_board.get(found.entry.board)
        old = newest is not None and _common(newest.entry) != _common(found.entry)
        result.append(Held(found, newest if old else None))
    return result


def _common(entry: JournalEntry) -> str:
    """What boards with values of their own have in common."""
    return entry.common_sha256 or entry.sha256


def clear(path: Path, numbers: Sequence[int]) -> None:
    """Remove these rows. Nothing is believed any more of the content of their chips: what remains on record may be
    older. Raises JournalTrouble."""
    rows_to_go = [(number,) for number in numbers]
    try:
        with closing(sqlite3.connect(path, timeout=_WAIT_S, isolation_level=None)) as file:
            _prepare(file, path)
            file.execute("BEGIN IMMEDIATE")
            chips = "SELECT unique_id FROM climb WHERE number = ?"
            file.executemany(f"DELETE FROM content WHERE unique_id IN ({chips})", rows_to_go)
            file.executemany("DELETE FROM climb WHERE number = ?", rows_to_go)
            file.execute("COMMIT")
    except _TROUBLES as error:
        raise JournalTrouble.of(path, error) from error


def remembered(path: Path, unique_id: str, chip: str) -> Remembered | None:
    """What was written to the chip's flash by the last run that could change it, and looked at afterwards as far as
    the chip shows it; None if that failed, or is not known. Raises JournalTrouble."""
    # an exit status of 2 or 4 belongs to a run that ended before changing anything
    where = (
        "WHERE unique_id = ? AND (purpose IN ('upload', 'restore', 'erase', 'unlock') AND exit_code NOT IN (2, 4) "
        "OR exit_code = 6) "
        "ORDER BY number DESC LIMIT 1"
    )
    last = next(_query(path, where, (unique_id,)), None)
    if last is None or last.entry.purpose not in ("upload", "restore"):
        return None
    if last.entry.exit_code or last.entry.chip != chip:
        return None
    try:
        with closing(sqlite3.connect(path, timeout=_WAIT_S)) as file:
            found = file.execute("SELECT number, granules FROM content WHERE unique_id = ?", (unique_id,)).fetchone()
    except _TROUBLES as error:
        raise JournalTrouble.of(path, error) from error
    if found is None or found[0] != last.number or not isinstance(found[1], bytes):
        return None
    granules = unpacked(found[1])
    if granules is None:
        return None
    return Remembered(last.number, granules, last.entry.version, last.entry.image, last.entry.at)


_MAGIC = b"SQLite format 3\0"


def set_aside(path: Path) -> Path:
    """Give a damaged journal another name, beside its own, so that a new one can be begun. Raises JournalTrouble,
    also for a file that never was one: it may be something else of the person's; and for one that is whole: then
    another command has begun it meanwhile."""
    at = datetime.now().strftime("%Y-%m-%d-%H%M%S-%f")
    aside = path.with_name(f"{path.stem}-damaged-{at}{path.suffix}")
    try:
        with path.open("rb") as file:
            head = file.read(len(_MAGIC)).ljust(len(_MAGIC))
        if sum(a != b for a, b in zip(head, _MAGIC, strict=True)) > 1:
            raise JournalTrouble(f"{path} is no journal")
        if _can_be_read(path):
            raise JournalTrouble(f"{path} is whole by now")
        for ending in ("", "-wal", "-shm"):  # what SQLite keeps beside it belongs to it
            beside = path.with_name(path.name + ending)
            if beside.exists():
                beside.replace(aside.with_name(aside.name + ending))
    except OSError as error:
        raise JournalTrouble.of(path, error) from error
    return aside


def _can_be_read(path: Path) -> bool:
    try:
        for _ in _query(path, ""):
            pass
        with closing(sqlite3.connect(path, timeout=_WAIT_S)) as file:
            return bool(file.execute("PRAGMA quick_check").fetchone() == ("ok",))
    except (JournalTrouble, *_TROUBLES):
        return False


def _conditions(wanted: Wanted) -> tuple[str, tuple[str, ...]]:
    conditions, values = [], []
    for column in ("board", "port", "outcome"):
        value = getattr(wanted, column)
        if value:
            conditions.append(f"{column} = ?")
            values.append(value)
    if wanted.chip:
        conditions.append("(chip LIKE ? OR unique_id LIKE ?)")
        values += [f"%{wanted.chip}%"] * 2
    if wanted.image:
        conditions.append("(image LIKE ? OR crc32 LIKE ? OR sha256 LIKE ? OR version LIKE ?)")
        values += [f"%{wanted.image}%", f"{wanted.image}%", f"{wanted.image}%", f"%{wanted.image}%"]
    if wanted.since:
        conditions.append("at >= ?")
        values.append(wanted.since)
    if wanted.until:
        conditions.append("at < ?")
        values.append(wanted.until)
    return ("WHERE " + " AND ".join(conditions) if conditions else ""), tuple(values)


def _query(path: Path, rest: str, values: Sequence[str | int] = ()) -> Iterator[JournalRow]:
    if not path.exists():
        return
    try:
        with closing(sqlite3.connect(path, timeout=_WAIT_S)) as file:
            _prepare(file, path)
            for number, *columns in file.execute(f"SELECT number, {', '.join(_COLUMNS)} FROM climb {rest}", values):
                entry = JournalEntry(*columns)
                if not _is_whole(entry):
                    raise JournalTrouble(f"{path}: row {number} is damaged", damaged=True)
                yield JournalRow(number, entry)
    except _TROUBLES as error:
        raise JournalTrouble.of(path, error) from error


def _is_whole(entry: JournalEntry) -> bool:
    """Whether a row is as it was written, as far as anyone can tell."""
    if not all(isinstance(value, kind) for value, kind in zip(astuple(entry), _TYPES, strict=True)):
        return False
    try:
        datetime.fromisoformat(entry.at)
    except ValueError:
        return False
    return entry.outcome in OUTCOMES


def _prepare(file: sqlite3.Connection, path: Path) -> None:
    """Create the tables if there are none. Raises JournalTrouble for a file of a later version."""
    (version,) = file.execute("PRAGMA user_version").fetchone()
    if version > _NEWEST_FORMAT:
        raise JournalTrouble(f"{path}: written by a later version of greenstep")
    _let_readers_in(file)
    if version == _NEWEST_FORMAT:
        return
    file.execute("BEGIN IMMEDIATE")  # waits for whoever is at it too
    (version,) = file.execute("PRAGMA user_version").fetchone()
    if 0 < version < _NEWEST_FORMAT:
        there = {row[1] for row in file.execute("PRAGMA table_info(climb)")}
        for column in [name for name in _SINCE_3 if name not in there]:
            file.execute(f"ALTER TABLE climb ADD COLUMN {column} TEXT NOT NULL DEFAULT ''")
    for statement in _CREATE:
        file.execute(statement)
    file.execute(f"PRAGMA user_version = {_NEWEST_FORMAT}")
    file.execute("COMMIT")


def _let_readers_in(file: sqlite3.Connection) -> None:
    """Have SQLite keep a log beside the file, so that readers and a writer do not wait for each other. For that
    nobody else may have it open. If somebody has, the file stays as it is, which is as safe, and the next one to open
    it tries again: a hundred that begin a journal at once would keep each other waiting for too long."""
    if file.execute("PRAGMA journal_mode").fetchone() != ("wal",):
        file.execute("PRAGMA busy_timeout = 0")
        with suppress(sqlite3.OperationalError):
            file.execute("PRAGMA journal_mode = WAL")
        file.execute(f"PRAGMA busy_timeout = {round(_WAIT_S * 1000)}")


def _words(error: Exception) -> str:
    if isinstance(error, OSError) and error.strerror:
        return error.strerror
    return str(error)
