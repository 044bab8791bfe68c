"""What a console makes of bytes."""

from __future__ import annotations

import unittest

from hypothesis import strategies as st

from greenstep.core.console.streams import Expectation, HexRows, LineSplitter, readable

from .examples import with_examples


class Lines(unittest.TestCase):
    def test_every_kind_of_line_end(self) -> None:
        splitter = LineSplitter()
        self.assertEqual(splitter.feed(b"one\r\ntwo\nthree\rfour"), [b"one", b"two", b"three"])
        self.assertEqual(splitter.partial, b"four")
        self.assertEqual(splitter.feed(b"\r"), [b"four"])
        self.assertEqual(splitter.feed(b"\n\n"), [b""])

    @with_examples(st.lists(st.sampled_from([b"a", b"\r", b"\n", b"\r\n", b"bc"]), max_size=30))
    def test_however_it_is_cut(self, pieces: list[bytes]) -> None:
        whole, single = LineSplitter(), LineSplitter()
        text = b"".join(pieces)
        lines = [line for value in text for line in single.feed(bytes([value]))]
        self.assertEqual(whole.feed(text), lines)
        self.assertEqual(whole.partial, single.partial)
        plain = text.replace(b"\r\n", b"\n").replace(b"\r", b"\n")
        self.assertEqual(b"\n".join([*lines, single.partial]), plain)

    def test_what_cannot_be_read_is_a_dot(self) -> None:
        self.assertEqual(readable(b"a\x00\x07b\xff\tc \xc2\xb0C"), "a··b·\tc °C")
        self.assertEqual(readable(b"\x1b[31mred"), "·[31mred")
        self.assertEqual(readable(b"\x1b[31mred", keep_colours=True), "\x1b[31mred\x1b[0m")


class Hex(unittest.TestCase):
    def test_rows_fill_up_or_end_with_a_pause(self) -> None:
        rows = HexRows()
        self.assertEqual(rows.feed(b"hive scale", 1.0), [])
        full = rows.feed(b" 2.4 ready", 1.01)
        self.assertEqual([(row.at_s, row.data) for row in full], [(1.0, b"hive scale 2.4 r")])
        self.assertEqual(rows.pause(1.03), [])
        self.assertEqual([row.data for row in rows.pause(1.1)], [b"eady"])
        self.assertEqual(str(full[0]), "68 69 76 65 20 73 63 61 6C 65 20 32 2E 34 20 72  hive scale 2.4 r")
        self.assertEqual(rows.flush(), [])


class Texts(unittest.TestCase):
    @with_examples(st.integers(1, 12))
    def test_found_however_it_is_cut(self, size: int) -> None:
        expectation = Expectation("scale 2.4")
        text = b"hive scale 2.3, no: scale 2.4 ready"
        found = [expectation.feed(text[at : at + size]) for at in range(0, len(text), size)]
        self.assertTrue(found[-1])
        self.assertFalse(Expectation("scale 2.5").feed(text))


if __name__ == "__main__":
    unittest.main()
