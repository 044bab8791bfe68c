"""Which value went to which board, and the file that values come from."""

from __future__ import annotations

import tempfile
import unittest
from collections.abc import Mapping
from pathlib import Path

from greenstep.core.board_values import BoardValues
from greenstep.core.errors import UsageFault
from greenstep.store.given_values import claim, given, hand_back, settle
from greenstep.store.value_rows import read_rows

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
        self.assertEqual((again.values, again.again), (first.values, True))
        self.assertEqual(other.values["serial"], "A-1")
        hand_back(self.path, again)  # it stays the chip's
        self.assertEqual(claim(self.path, self.wanted, "chip 1"), again)
        fewer = claim(self.path, BoardValues("scales", ROWS[2:], 5), "chip 1")
        assert fewer is not None
        self.assertEqual(fewer.values, {**ROWS[2], "count": "7"})

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
                ("line 3: 1 value", "a,b\n1,2\n3\n"), ("line 4: the same as line 2", "a\n1\n2\n1\n"),
            ):  # fmt: skip
                path.write_text(text, "utf-8")
                with self.subTest(text), self.assertRaisesRegex(UsageFault, said):
                    read_rows(path)
