"""The journal with 100,000 rows against one with ten: how much longer its commands take."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from contextlib import closing
from dataclasses import replace
from pathlib import Path

from greenstep.store import journal
from tests.tool.test_journal import ENTRY

from .hex_parsing import fastest

ROWS, FEW = 100_000, 10
LIMIT_S = 0.5
_QUESTIONS = ((), ("--board", "hive-7"), ("--image", "FFFF"), ("--held",), ("54",))


def fill(path: Path, number: int) -> None:
    """So many uploads to a thousand chips of twenty boards, in one go."""
    journal.record(path, ENTRY)
    columns = tuple(vars(ENTRY))
    rows = []
    for index in range(number - 1):
        outcome = {"outcome": "failed", "exit_code": 6, "finding": "fell-silent"} if index % 17 == 0 else {}
        at = f"20{16 + index // 10_000:02}-{1 + index // 900 % 12:02}-{1 + index // 30 % 28:02}T10:00:00+01:00"
        entry = replace(ENTRY, at=at, board=f"hive-{index % 20}", unique_id=f"UID{index % 1000:04}", **outcome)
        rows.append(tuple(vars(entry).values()))
    import sqlite3

    with closing(sqlite3.connect(path)) as file, file:
        marks = ", ".join("?" * len(columns))
        file.executemany(f"INSERT INTO climb ({', '.join(columns)}) VALUES ({marks})", rows)


def main() -> int:
    tool = str(Path(sys.executable).parent / "greenstep")
    worst = 0.0
    with tempfile.TemporaryDirectory() as folder:
        files = {number: Path(folder) / f"{number}.sqlite" for number in (FEW, ROWS)}
        for number, path in files.items():
            fill(path, number)
        for question in _QUESTIONS:
            took = {}
            for number, path in files.items():
                environment = {**os.environ, journal.VARIABLE: str(path)}
                words = [tool, "journal", *question]

                def ask(words: list[str] = words, environment: dict[str, str] = environment) -> None:
                    subprocess.run(words, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)

                took[number] = fastest(ask, 5)
            more = took[ROWS] - took[FEW]
            worst = max(worst, more)
            print(
                f"journal {' '.join(question):<15} {took[FEW]:.2f} s with ten rows, {took[ROWS]:.2f} s with {ROWS:,}"
            )
    print(f"{worst:.2f} s more at most (at most {LIMIT_S:g})")
    return 0 if worst <= LIMIT_S else 1


if __name__ == "__main__":
    sys.exit(main())
