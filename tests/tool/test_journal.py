"""The journal: kept by every upload, asked in every way, and never in the way of one."""

from __future__ import annotations

import csv
import io
import sqlite3
import tempfile
import unittest
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from dataclasses import replace
from pathlib import Path
from unittest import mock

from greenstep.core.image import Image, Piece
from greenstep.core.image.granules import granules_of
from greenstep.core.journal.records import JournalEntry
from greenstep.store import journal
from greenstep.store.journal import JournalTrouble, Wanted, clear, held, record, remembered, row, rows

from .support import ToolTest
from .test_image import png_size

ENTRY = JournalEntry(
    at="2026-11-02T09:30:00+01:00", purpose="upload", board="hive-scale", chip="atmega328p", unique_id="",
    port="/dev/ttyUSB0", line="115200 8N1", image="hive-scale.hex", image_bytes=4000, crc32="5A3C91EE", sha256="ab" * 32,
    version="hive scale 2.4", outcome="green", exit_code=0, finding="", evidence="heard", seconds=3.2, write_seconds=1.0,
    proof="read back, 4,000 bytes equal",
)  # fmt: skip


def probe(number: int, **changes: object) -> JournalEntry:
    """An upload to the brood probe of that unique id."""
    base = replace(ENTRY, board="brood-probe", chip="stm32f07x", unique_id=f"UID{number}", image="brood-probe.hex")
    return replace(base, **changes)  # type: ignore[arg-type]


class Kept(unittest.TestCase):
    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory(prefix="greenstep-test-")
        self.addCleanup(holder.cleanup)
        self.path = Path(holder.name) / "deep" / "journal.sqlite"

    def test_numbers_count_up_and_rows_come_back_whole(self) -> None:
        self.assertEqual(rows(self.path, Wanted()), [])
        entries = [ENTRY, probe(1), replace(ENTRY, outcome="failed", exit_code=6, finding="fell-silent")]
        self.assertEqual([record(self.path, entry) for entry in entries], [1, 2, 3])
        self.assertEqual([found.entry for found in rows(self.path, Wanted())], entries[::-1])
        found = row(self.path, 2)
        assert found is not None
        self.assertEqual(found.entry, entries[1])
        self.assertIsNone(row(self.path, 4))

    def test_what_a_chip_was_given_last(self) -> None:
        first, second = (granules_of(Image("a", (Piece(0, bytes([value]) * 900),)), 0xFF) for value in (1, 2))
        self.assertIsNone(remembered(self.path, "UID1", "stm32f07x"))
        record(self.path, probe(1), first)
        record(self.path, probe(2), second)
        found = remembered(self.path, "UID1", "stm32f07x")
        assert found is not None
        self.assertEqual((found.number, found.granules), (1, first))
        self.assertIsNone(remembered(self.path, "UID1", "stm32f10x-medium"))
        record(self.path, probe(1), second)
        again = remembered(self.path, "UID1", "stm32f07x")
        assert again is not None
        self.assertEqual((again.number, again.granules), (3, second))
        record(self.path, probe(1, outcome="failed", exit_code=4))  # it never came to writing
        self.assertIsNotNone(remembered(self.path, "UID1", "stm32f07x"))

    def test_what_ends_that_knowledge(self) -> None:
        granules = granules_of(Image("a", (Piece(0, b"hive"),)), 0xFF)
        for number, changes in enumerate((
            {"outcome": "failed", "exit_code": 6}, {"outcome": "failed", "exit_code": 3}, {"outcome": "interrupted", "exit_code": 130},
            {"purpose": "erase"}, {"purpose": "unlock"},
        )):  # fmt: skip
            with self.subTest(changes):
                record(self.path, probe(number), granules)
                self.assertIsNotNone(remembered(self.path, f"UID{number}", "stm32f07x"))
                record(self.path, probe(number, **changes), granules if changes.get("purpose") is None else None)
                self.assertIsNone(remembered(self.path, f"UID{number}", "stm32f07x"))
        record(self.path, probe(9, purpose="restore"), granules)
        self.assertIsNotNone(remembered(self.path, "UID9", "stm32f07x"))
        self.assertIsNone(remembered(self.path, "", "stm32f07x"))

    def test_a_journal_from_before_is_carried_on(self) -> None:
        record(self.path, probe(1))
        with closing(sqlite3.connect(self.path)) as file:
            file.execute("DROP TABLE content")
            file.execute("ALTER TABLE climb DROP COLUMN own_values")
            file.execute("PRAGMA user_version = 1")
        self.assertIsNone(remembered(self.path, "UID1", "stm32f07x"))
        granules = granules_of(Image("a", (Piece(0, b"hive"),)), 0xFF)
        self.assertEqual(record(self.path, probe(1), granules), 2)
        self.assertIsNotNone(remembered(self.path, "UID1", "stm32f07x"))

    def test_each_filter(self) -> None:
        entries = [
            ENTRY, probe(1), probe(2, at="2026-11-20T10:00:00+01:00"), replace(ENTRY, outcome="failed", port="COM3"),
            replace(ENTRY, crc32="FFFF0000", version="hive scale 2.5", image="later.hex"),
        ]  # fmt: skip
        for entry in entries:
            record(self.path, entry)
        cases = {
            Wanted(board="brood-probe"): [3, 2], Wanted(chip="stm32"): [3, 2], Wanted(chip="UID2"): [3],
            Wanted(port="COM3"): [4], Wanted(outcome="failed"): [4], Wanted(image="FFFF"): [5], Wanted(image="2.5"): [5],
            Wanted(image="later"): [5], Wanted(since="2026-11-10"): [3], Wanted(last=2): [5, 4], Wanted(board="x"): [],
            Wanted(last=0): [5, 4, 3, 2, 1], Wanted(board="hive-scale", outcome="green"): [5, 1],
        }  # fmt: skip
        for wanted, numbers in cases.items():
            with self.subTest(wanted):
                self.assertEqual([found.number for found in rows(self.path, wanted)], numbers)

    def test_what_is_on_which_chip_and_which_are_old(self) -> None:
        new = {"sha256": "cd" * 32, "version": "brood probe 1.8"}
        for entry in (
            probe(1), probe(2), ENTRY, probe(1, **new), probe(3, outcome="failed"), probe(2, purpose="backup"),
            probe(4, board=""),
        ):  # fmt: skip
            record(self.path, entry)
        found = {one.row.entry.unique_id: one for one in held(self.path)}
        self.assertEqual(set(found), {"UID1", "UID2", "UID4"})
        self.assertEqual((found["UID1"].newest, found["UID4"].newest), (None, None))
        newest = found["UID2"].newest
        assert newest is not None
        self.assertEqual((newest.number, newest.entry.version), (4, "brood probe 1.8"))

    def test_what_is_cleared_is_not_believed_any_more(self) -> None:
        granules = granules_of(Image("a", (Piece(0, b"hive"),)), 0xFF)
        for entry in (probe(1), probe(2), probe(1, purpose="erase", at="2026-11-20T10:00:00+01:00")):
            record(self.path, entry, None if entry.purpose == "erase" else granules)
        clear(self.path, [3])
        self.assertIsNone(remembered(self.path, "UID1", "stm32f07x"))  # its erase is no longer on record
        self.assertIsNotNone(remembered(self.path, "UID2", "stm32f07x"))
        self.assertEqual([found.number for found in rows(self.path, Wanted())], [2, 1])

    def test_a_hundred_at_once_leave_a_whole_journal(self) -> None:
        with ThreadPoolExecutor(25) as pool:
            numbers = list(pool.map(lambda number: record(self.path, probe(number)), range(100)))
        self.assertEqual(sorted(numbers), list(range(1, 101)))
        self.assertEqual(
            {found.entry.unique_id for found in rows(self.path, Wanted(last=0))}, {f"UID{n}" for n in range(100)}
        )

    def test_a_reader_at_the_very_beginning(self) -> None:
        self.path.parent.mkdir(parents=True)
        with closing(sqlite3.connect(self.path, isolation_level=None)) as reader:
            reader.execute("BEGIN")
            reader.execute("SELECT count(*) FROM sqlite_master").fetchall()
            tried = journal._let_readers_in

            def and_the_reader_goes(file: sqlite3.Connection) -> None:
                tried(file)
                if reader.in_transaction:
                    reader.execute("COMMIT")

            with mock.patch.object(journal, "_let_readers_in", and_the_reader_goes):
                self.assertEqual(record(self.path, ENTRY), 1)
        self.assertEqual(self.mode(), ("delete",))
        self.assertEqual(record(self.path, ENTRY), 2)
        self.assertEqual(self.mode(), ("wal",))

    def mode(self) -> object:
        with closing(sqlite3.connect(self.path)) as file:
            return file.execute("PRAGMA journal_mode").fetchone()

    def test_trouble_is_told(self) -> None:
        record(self.path, ENTRY)
        with closing(sqlite3.connect(self.path)) as other, mock.patch.object(journal, "_WAIT_S", 0.05):
            other.execute("BEGIN EXCLUSIVE")
            with self.assertRaisesRegex(JournalTrouble, "locked"):
                record(self.path, ENTRY)
        with closing(sqlite3.connect(self.path)) as other:
            other.execute("PRAGMA user_version = 99")
        for act in (lambda: record(self.path, ENTRY), lambda: rows(self.path, Wanted())):
            with self.assertRaisesRegex(JournalTrouble, "later version"):
                act()
        self.path.write_bytes(b"bees in spring" * 100)
        with self.assertRaisesRegex(JournalTrouble, "not a database"):
            rows(self.path, Wanted())
        with self.assertRaises(JournalTrouble):
            record(self.path / "below a file", ENTRY)


class Asked(ToolTest):
    def fill(self) -> None:
        for number in range(30):
            outcome = {"outcome": "failed", "exit_code": 6, "finding": "fell-silent"} if number % 7 == 3 else {}
            entry = probe(
                number % 4, at=f"2026-11-{1 + number // 3:02}T10:00:00+01:00", seconds=2.0 + number % 5, **outcome
            )
            record(self.folder / "journal.sqlite", entry)

    def test_listed_shown_exported_and_drawn(self) -> None:
        self.assertIn("nothing on record", self.run_tool("journal").out)
        self.fill()
        listed = self.run_tool("journal").out.splitlines()
        self.assertEqual((len(listed), listed[-1]), (22, "the last 20; --last 0 shows all"))
        self.assertIn("● brood-probe  brood-probe.hex 5A3C91EE    6.0 s  hive scale 2.4", listed[0])
        self.assertIn("the chip stopped answering", self.run_tool("journal", "--outcome", "failed").out)
        self.assertEqual(len(self.run_tool("journal", "--since", "2026-11-10", "--json").events), 3)
        one = self.run_tool("journal", "4").out
        for said in ("4   upload   brood-probe   failed", "stm32f07x, UID3", "fell-silent, exit status 6", "sha256"):
            self.assertIn(said, one)
        table = list(csv.DictReader(io.StringIO(self.run_tool("journal", "--csv").out)))
        self.assertEqual((len(table), table[-1]["number"], table[-1]["unique_id"]), (30, "1", "UID0"))
        self.assertIn("UID2  brood-probe", self.run_tool("journal", "--on-chips").out)
        self.assertEqual(
            [event["old"] for event in self.run_tool("journal", "--on-chips", "--json").events], [False] * 4
        )
        drawn = self.run_tool("journal", "--save", "year.png")
        self.assertEqual((drawn.status, png_size(self.folder / "year.png")), (0, (1280, 800)), drawn.text)

    def test_rows_are_cleared_with_consent(self) -> None:
        self.fill()
        record(self.folder / "journal.sqlite", ENTRY)
        record(self.folder / "journal.sqlite", ENTRY)
        both = len(self.run_tool("journal", "--last", "0", "--json").events)
        for words in (
            ("--clear",),
            ("--clear", "--values"),
            ("--clear", "--csv", "--yes"),
            ("--values", "--on-chips"),
        ):
            with self.subTest(words):
                self.assertEqual(self.run_tool("journal", *words).status, 2)
        self.assertEqual(len(self.run_tool("journal", "--last", "0", "--json").events), both)
        run = self.run_tool("journal", "--until", "2000-01-01", "--clear")
        self.assertEqual((run.status, run.out), (0, "0 rows removed\n"), run.text)
        newest = self.run_tool("journal", "--board", "hive-scale", "--last", "1", "--clear", "--yes")
        self.assertEqual(newest.out, "1 row removed\n")
        first = self.run_tool("journal", "--board", "hive-scale", "--clear", "--yes")
        self.assertEqual(first.out, "1 row removed\n")
        left = self.run_tool("journal", "--last", "0", "--json").events
        self.assertEqual((both, len(left), {row["board"] for row in left}), (32, 30, {"brood-probe"}))

    def test_what_is_refused(self) -> None:
        for words, said in (
            (("9",), "no number 9"),
            (("--since", "soon"), "is not a date"),
            (("--save", "x.png"), "nothing on record"),
        ):
            run = self.run_tool("journal", *words)
            self.assertEqual((run.status, said in run.text), (2, True), run.text)
        self.assertIn("no journal is kept", self.run_tool("journal", GREENSTEP_JOURNAL="none").text)

    def test_an_upload_is_kept_and_a_broken_journal_is_not_in_its_way(self) -> None:
        bench = self.bench("brood-probe")
        reach = ("--chip", "stm32f072rb", "--hookup", "dtr-reset-rts-boot", "--port", bench.port("brood-probe"))
        run = self.run_tool("upload", "brood-probe.hex", *reach)
        self.assertEqual(run.status, 0, run.text)
        self.assertIn(". Journal 1.", run.out)
        refused = self.run_tool("upload", "hive-scale.hex", *reach, "--json")
        self.assertEqual((refused.status, refused.event("run-ended")["journal"]), (5, 2))
        failed, good = self.run_tool("journal", "--json").events
        self.assertEqual(
            (good["outcome"], good["unique_id"], good["version"]),
            ("green", "303132333435363738393A3B", "brood probe 1.7 ready"),
        )
        self.assertEqual(
            (good["proof"], good["crc32"]), ("read back, 5,000 bytes equal", f"{self.probe.crc32():08X}")
        )
        self.assertEqual((failed["outcome"], failed["finding"], failed["unique_id"]), ("failed", "does-not-fit", ""))
        (self.folder / "broken").write_bytes(b"bees" * 999)
        run = self.run_tool(
            "backup", *reach, "--from", "0x08000000", "--size", "64", "--save", "b.bin", GREENSTEP_JOURNAL="broken"
        )
        self.assertEqual(
            (run.status, "not in the journal: broken: file is not a database" in run.err), (0, True), run.text
        )


if __name__ == "__main__":
    unittest.main()
