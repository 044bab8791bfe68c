"""The model of an image, raw files, and recognising by content."""

from __future__ import annotations

import unittest
import zlib

from greenstep.core.image import Image, ImageFault, Piece, join
from greenstep.core.image.file_formats import recognise, saved_text
from greenstep.core.image.raw import read_raw


class Model(unittest.TestCase):
    image = Image("a", (Piece(0x10, b"abcd"), Piece(0x20, b"efgh")))

    def test_sizes_and_edges(self) -> None:
        self.assertEqual((self.image.size_bytes, self.image.lowest, self.image.end), (8, 0x10, 0x24))

    def test_covers_and_touches(self) -> None:
        cases = [(0x10, 4, True, True), (0x12, 4, False, True), (0x14, 4, False, False), (0xF, 1, False, False)]
        for address, size, covers, touches in cases:
            with self.subTest(address=address):
                self.assertEqual(self.image.covers(address, size), covers)
                self.assertEqual(self.image.touches(address, size), touches)

    def test_cut_fills_what_is_open(self) -> None:
        self.assertEqual(self.image.cut(0x11, 2, 0xFF), b"bc")
        self.assertEqual(self.image.cut(0x12, 16, 0xEE), b"cd" + b"\xee" * 12 + b"ef")
        self.assertEqual(self.image.cut(0x40, 3, 0), bytes(3))

    def test_crc_counts_gaps_as_the_erased_value(self) -> None:
        for fill in (0xFF, 0x00):
            self.assertEqual(self.image.crc32(fill), zlib.crc32(b"abcd" + bytes([fill]) * 12 + b"efgh"))

    def test_join_merges_and_refuses(self) -> None:
        other = Image("b", (Piece(0x14, b"XY"), Piece(0x22, b"gh")), start=4)
        joined = join([self.image, other])
        self.assertEqual(joined.pieces, (Piece(0x10, b"abcdXY"), Piece(0x20, b"efgh")))
        self.assertEqual((joined.name, joined.start), ("a + b", 4))
        self.assertEqual(join([self.image, other, other]).name, "a and 2 more")
        with self.assertRaises(ImageFault) as caught:
            join([self.image, Image("c", (Piece(0x21, b"f!"),))])
        self.assertIn("c: byte 21 at 0022, where a has 67", caught.exception.finding.cause)


class RawAndRecognised(unittest.TestCase):
    def test_raw_takes_a_base(self) -> None:
        self.assertEqual(read_raw(b"abc", "x.bin", 0x08000000).pieces, (Piece(0x08000000, b"abc"),))
        with self.assertRaises(ImageFault):
            read_raw(b"", "x.bin", 0)

    def test_what_is_no_image_is_known(self) -> None:
        for head in (b"hello\n", b"\t\n", "bee, abeille, пчела\r\n".encode(), "café".encode()[:-1]):
            self.assertEqual(saved_text(head), "a text", head)
        self.assertEqual(saved_text(b"\n <!DOCTYPE html><p>"), "a web page")
        for head in (b"", b"\xff", b"\xff\xfe\xff", b"bees\x00", "пчела".encode()[1:] + b"1234"):
            self.assertEqual(saved_text(head), "", head)

    def test_by_content(self) -> None:
        cases = {
            b"\x7fELF\x01\x01": "ELF",
            b":10000000" + b"00" * 17: "Intel HEX",
            b"hello\n:00000001FF\n": "Intel HEX",
            b":0200000\n": "Intel HEX",
            b"S00600004844521B\n": "S-record",
            b"@F000\n01 02 03\nq\n": "TI-TXT",
            b"\x00\x40\x00\x20\xc1\x00\x00\x08": "raw binary",
            bytes(range(256)) + b":10000000": "raw binary",
            b"": "raw binary",
        }
        for head, expected in cases.items():
            with self.subTest(head[:12]):
                self.assertEqual(recognise(head), expected)


if __name__ == "__main__":
    unittest.main()
