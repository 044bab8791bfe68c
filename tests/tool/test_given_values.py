"""Which value went to which board, and the file that values come from."""

from __future__ import annotations

import tempfile
import unittest
from collections.abc import Mapping
from pathlib import Path

from greenstep.core.batch.board_values import BoardValues
from greenstep.core.errors import UsageFault
from greenstep.store.csv_files import read_rows
from greenstep.store.given_values import claim, given, hand_back, settle

ROWS: tuple[Mapping[str, str], ...] = tuple({"serial": f"A-{n}", "mac": f"02:00:00:00:00:{n:02X}"} for n in range(3))


class Given(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "values.sqlite"
        self.wanted = BoardValues("scales", ROWS, 5)

    def test_each_is_given_once_also_without_an_end(self) -> None:
        found = [claim(self.path, self.wanted) for _ in range(4)]
        values = [one.values if one else None for one in found]
        self.assertEqual(values, [*({**row, "count": str(5 + n)} for n, row in enumerate(ROWS)), None])
        self.assertEqual([one.outcome for one in given(self.path)], ["", "", ""])
        other = claim(self.path, BoardValues("probes", ROWS))
        assert other is not None
        self.assertEqual(other.values, ROWS[0])

    def test_the_same_chip_has_the_same(self) -> None:
        first = claim(self.path, self.wanted)
        assert first is not None
        settle(self.path, first, "chip 1", "STM32", "failed", 3)
        again, other = claim(self.path, self.wanted, "chip 1"), claim(self.path, self.wanted, "chip 2")
        assert again is not None
        assert other is not None
        self.assertEqual((again.values, again.unique_id), (first.values, "chip 1"))
        self.assertEqual(other.values["serial"], "A-1")
        hand_back(self.path, again)  # it stays the chip's
        self.assertEqual(claim(self.path, self.wanted, "chip 1"), again)
        fewer = claim(self.path, BoardValues("scales", ROWS[2:], 5), "chip 1")
        assert fewer is not None
        self.assertEqual(fewer.values, {**ROWS[2], "count": "7"})

    def test_a_row_goes_by_its_first_value(self) -> None:
        """A file that was edited gives none out again."""
        first = claim(self.path, BoardValues("scales", ROWS))
        assert first is not None
        settle(self.path, first, "chip 1", "STM32", "green", 1)
        edited: tuple[Mapping[str, str], ...] = tuple(
            {"note": "", "mac": row["mac"].replace("02", "06"), "serial": row["serial"]} for row in ROWS
        )
        other, again = (claim(self.path, BoardValues("scales", edited), chip) for chip in ("chip 2", "chip 1"))
        assert other is not None
        assert again is not None
        self.assertEqual((other.values, again.values), (edited[1], edited[0]))
        settle(self.path, again, "chip 1", "STM32", "green", 2)
        self.assertEqual([one.values for one in given(self.path)], [edited[0], edited[1]])

    def test_what_no_board_has_seen_is_given_to_the_next(self) -> None:
        first = claim(self.path, self.wanted)
        assert first is not None
        hand_back(self.path, first)
        second = claim(self.path, self.wanted)
        assert second is not None
        self.assertEqual(second.values, first.values)


class Rows(unittest.TestCase):
    def test_tables(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "scales.csv"
            for text in ("serial,key\nA-1,x y\n\nA-2, z\n", "\ufeffserial;key\r\nA-1;x y\r\nA-2;z\r\n"):
                path.write_text(text, "utf-8")
                self.assertEqual(read_rows(path), ({"serial": "A-1", "key": "x y"}, {"serial": "A-2", "key": "z"}))
            for said, text in (
                ("heading", ""), ("heading", "1,2\n"), ("heading", "a,a\n1,2\n"), ("no row", "a,b\n"),
                ("line 3: 1 value", "a,b\n1,2\n3\n"), ("line 4: a 1 is in line 2 too", "a,b\n1,x\n2,x\n1,y\n"),
            ):  # fmt: skip
                path.write_text(text, "utf-8")
                with self.subTest(text), self.assertRaisesRegex(UsageFault, said):
                    read_rows(path)
