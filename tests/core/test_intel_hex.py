"""Intel HEX: one table of files for the reader, faults with their places, and round trips."""

from __future__ import annotations

import io
import unittest
from unittest import mock

from hypothesis import strategies as st

from greenstep.core.image import Image, ImageFault, Piece, text_lines
from greenstep.core.image.intel_hex import read_intel_hex, write_intel_hex

from .examples import with_examples


def record(address: int, data: bytes, record_type: int = 0) -> str:
    """A right record, built as the format says: the sum of all its bytes is 0."""
    body = [len(data), address >> 8, address & 0xFF, record_type, *data]
    return ":" + "".join(f"{byte:02X}" for byte in [*body, -sum(body) & 0xFF])


def read(text: str | bytes, name: str = "bees.hex") -> Image:
    return read_intel_hex(io.BytesIO(text.encode("latin-1") if isinstance(text, str) else text), name)


END = ":00000001FF"
UPPER = record(0, b"\x08\x00", 4)

GOOD = {
    "one record": (f"{record(0x10, b'hive')}\n{END}\n", [(0x10, b"hive")]),
    "CR LF": (f"{record(0, b'ab')}\r\n{record(2, b'cd')}\r\n{END}\r\n", [(0, b"abcd")]),
    "CR alone": (f"{record(0, b'ab')}\r{record(2, b'cd')}\r{END}\r", [(0, b"abcd")]),
    "no newline at the end": (f"{record(0, b'ab')}\n{END}", [(0, b"ab")]),
    "lower-case digits": (f"{record(0, bytes([0xAB, 0xCD])).lower()}\n{END}\n", [(0, b"\xab\xcd")]),
    "blank lines": (f"\n\n{record(0, b'ab')}\n\n{END}\n\n", [(0, b"ab")]),
    "blanks behind a record": (f"{record(0, b'ab')}  \t\n{END} \n", [(0, b"ab")]),
    "text before the first colon": (f"frame lift 2\nbuilt today\nx{record(0, b'ab')}\n{END}\n", [(0, b"ab")]),
    "byte-order mark": (b"\xef\xbb\xbf" + f"{record(0, b'ab')}\n{END}\n".encode(), [(0, b"ab")]),
    "DOS end of file": (f"{record(0, b'ab')}\n{END}\n\x1a", [(0, b"ab")]),
    "text after the end": (f"{record(0, b'ab')}\n{END}\nthat was it\n", [(0, b"ab")]),
    "records out of order": (f"{record(2, b'cd')}\n{record(0, b'ab')}\n{END}\n", [(0, b"abcd")]),
    "a gap": (f"{record(0, b'ab')}\n{record(8, b'cd')}\n{END}\n", [(0, b"ab"), (8, b"cd")]),
    "overlap that agrees": (f"{record(0, b'abcd')}\n{record(2, b'cdef')}\n{END}\n", [(0, b"abcdef")]),
    "overlap inside": (f"{record(0, b'abcdef')}\n{record(2, b'cd')}\n{END}\n", [(0, b"abcdef")]),
    "255 bytes in a record": (f"{record(0, bytes(255))}\n{END}\n", [(0, bytes(255))]),
    "upper 16 bits": (f"{UPPER}\n{record(0xFFFE, b'ab')}\n{END}\n", [(0x0800FFFE, b"ab")]),
    "two upper records": (
        f"{UPPER}\n{record(0xFFFE, b'ab')}\n{record(0, bytes([8, 1]), 4)}\n{record(0, b'cd')}\n{END}\n",
        [(0x0800FFFE, b"abcd")],
    ),
    "over the 64 KiB border, linear": (f"{UPPER}\n{record(0xFFFE, b'abcd')}\n{END}\n", [(0x0800FFFE, b"abcd")]),
    "segment base": (f"{record(0, bytes([0x12, 0x00]), 2)}\n{record(4, b'ab')}\n{END}\n", [(0x12004, b"ab")]),
    "over the 64 KiB border, in a segment": (
        f"{record(0, bytes([0x10, 0x00]), 2)}\n{record(0xFFFE, b'abcd')}\n{END}\n",
        [(0x10000, b"cd"), (0x1FFFE, b"ab")],
    ),
    "an empty data record": (f"{record(0, b'')}\n{record(0, b'ab')}\n{END}\n", [(0, b"ab")]),
}  # fmt: skip

BAD = {
    "wrong checksum": (":0200000061623A\n", 1, "checksum 3A", "3B from"),
    "lost characters": (f"{record(0, b'ab')}\n{record(2, b'cdef')[:-4]}\n", 2, "2 data bytes", "4, as the record's"),
    "too many characters": (record(0, b"ab") + "00\n", 1, "too many characters", "2, as"),
    "half a byte": (record(0, b"ab")[:-1] + "\n", 1, "odd number", "two digits"),
    "no hex digit": (record(0, b"ab").replace("61", "6G") + "\n", 1, "'G' in column 11", "hex digit"),
    "too short": (":000000\n", 1, "only 6 hex digits", "at least 10"),
    "unknown type": (record(0, b"ab", 6) + "\n", 1, "record type 06", "from 00 to 05"),
    "upper record of the wrong size": (record(0, b"abc", 4) + "\n", 1, "3 data bytes in a record of type 04", "2"),
    "text in the middle": (f"{record(0, b'ab')}\nhello bees\n{END}\n", 2, "'hello bees'", "colon"),
    "a record after the end": (
        f"{record(0, b'ab')}\n{END}\n{record(2, b'cd')}\n",
        3,
        "end record of line 2",
        "nothing",
    ),
    "beyond 4 GiB": (f"{record(0, bytes([255, 255]), 4)}\n{record(0xFFFF, b'ab')}\n", 2, "beyond", "32-bit"),
    "nothing in it": ("just text\n", None, "no Intel HEX record", "':'"),
    "no data in it": (f"{UPPER}\n{END}\n", None, "no data", "data record"),
}


class Reading(unittest.TestCase):
    def test_real_files(self) -> None:
        for name, (text, expected) in GOOD.items():
            with self.subTest(name):
                image = read(text)
                self.assertEqual([(piece.address, piece.data) for piece in image.pieces], expected)

    def test_real_files_in_the_smallest_chunks(self) -> None:
        for size in (1, 7, 64):
            with mock.patch.object(text_lines, "_CHUNK_BYTES", size):
                for name, (text, expected) in GOOD.items():
                    with self.subTest(name, chunk=size):
                        self.assertEqual([(p.address, p.data) for p in read(text).pieces], expected)

    def test_faults_name_file_line_found_and_expected(self) -> None:
        for name, (text, line, found, expected) in BAD.items():
            with self.subTest(name), self.assertRaises(ImageFault) as caught:
                read(text)
            fault = caught.exception
            self.assertEqual((fault.file, fault.line), ("bees.hex", line), name)
            self.assertIn(found, fault.finding.cause)
            self.assertIn(expected, fault.finding.evidence[0])
            self.assertEqual(fault.exit_code, 5)

    def test_faults_in_the_middle_of_a_large_file(self) -> None:
        lines = [record(16 * n, bytes(range(16))) for n in range(4000)]
        for line in (1, 1777, 4000):
            damaged = [*lines]
            damaged[line - 1] = damaged[line - 1][:-1] + ("0" if damaged[line - 1][-1] != "0" else "1")
            with self.assertRaises(ImageFault) as caught:
                read("\n".join([*damaged, END, ""]))
            self.assertEqual(caught.exception.line, line)

    def test_overlap_that_disagrees_names_both_lines(self) -> None:
        lines = [record(16 * n, bytes([n] * 16)) for n in range(100)]
        text = "\n".join([*lines, record(0x105, b"\x77"), END, ""])
        with self.assertRaises(ImageFault) as caught:
            read(text)
        self.assertEqual(caught.exception.line, 101)
        self.assertIn("byte 77 at 0105, where line 17 has 10", caught.exception.found)

    def test_start_addresses(self) -> None:
        self.assertEqual(
            read(f"{record(0, b'a')}\n{record(0, bytes([8, 0, 0, 0xC1]), 5)}\n{END}\n").start, 0x080000C1
        )
        self.assertEqual(read(f"{record(0, b'a')}\n{record(0, bytes([0x10, 0, 0, 4]), 3)}\n{END}\n").start, 0x10004)
        self.assertIsNone(read(f"{record(0, b'a')}\n{END}\n").start)

    def test_a_file_without_its_end_record_is_cut_off(self) -> None:
        for lines in (1, 3, 3000):
            with self.assertRaises(ImageFault) as caught:
                read("".join(f"{record(16 * n, bytes(16))}\n" for n in range(lines)))
            finding = caught.exception.findings[0]
            self.assertIn(f"cut off after line {lines}", finding.cause)
            self.assertIn("add that line", finding.attempts[1])

    def test_lines_of_changing_length(self) -> None:
        data = bytes(range(256)) * 20
        lines, at, size = [], 0, 1
        while at < len(data):
            lines.append(record(at, data[at : at + size]))
            at, size = at + size, size % 200 + 1
        self.assertEqual(read("\n".join([*lines, END, ""])).pieces, (Piece(0, data),))


pieces = st.lists(st.tuples(st.integers(0, 0xFFFFFF), st.binary(min_size=1, max_size=600)), min_size=1, max_size=6)


def apart(found: list[tuple[int, bytes]]) -> tuple[Piece, ...]:
    """Pieces in order with a gap between each and the next."""
    result: list[Piece] = []
    for address, data in sorted(found):
        start = max(address, result[-1].end + 1 if result else 0)
        result.append(Piece(start, data))
    return tuple(result)


class RoundTrips(unittest.TestCase):
    @with_examples(pieces, st.integers(1, 255), st.one_of(st.none(), st.integers(0, 0xFFFFFFFF)))
    def test_linear(self, found: list[tuple[int, bytes]], size: int, start: int | None) -> None:
        image = Image("bees.hex", apart(found), start, "Intel HEX")
        again = read("".join(write_intel_hex(image, size)))
        self.assertEqual((again.pieces, again.start), (image.pieces, image.start))

    @with_examples(pieces, st.integers(1, 64), most=40)
    def test_segment(self, found: list[tuple[int, bytes]], size: int) -> None:
        low = apart([(address & 0x7FFFF, data) for address, data in found])
        image = Image("bees.hex", low, 0x1234, "Intel HEX")
        again = read("".join(write_intel_hex(image, size, "segment")))
        self.assertEqual((again.pieces, again.start), (image.pieces, image.start))

    def test_what_cannot_be_written(self) -> None:
        image = Image("bees.hex", (Piece(0x100000, b"a"),))
        with self.assertRaisesRegex(ValueError, "out of reach of segment"):
            list(write_intel_hex(image, addressing="segment"))
        with self.assertRaisesRegex(ValueError, "1 to 255"):
            list(write_intel_hex(image, record_bytes=256))

    @with_examples(st.data(), most=150)
    def test_damaged_files_are_read_or_refused_never_else(self, data: st.DataObject) -> None:
        text = bytearray("\n".join([UPPER, *(record(16 * n, bytes(range(16))) for n in range(8)), END, ""]).encode())
        for _ in range(data.draw(st.integers(1, 4))):
            text[data.draw(st.integers(0, len(text) - 1))] = data.draw(st.integers(0, 255))
        try:
            image = read(bytes(text))
        except ImageFault as fault:
            self.assertTrue(fault.finding.cause.startswith("bees.hex"))
        else:
            self.assertGreater(image.size_bytes, 0)


if __name__ == "__main__":
    unittest.main()
