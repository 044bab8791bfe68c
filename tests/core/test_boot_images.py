"""Boot headers, partition tables and the jumps of a PIC18: read, judged, rewritten."""

from __future__ import annotations

import hashlib
import unittest

from greenstep.bench.samples import esp_image
from greenstep.core.families.pic18 import code_only, goto, goto_target, in_words
from greenstep.core.image import Image, Piece
from greenstep.core.image.edit import with_bytes
from greenstep.core.image.esp_tables import (
    MODES,
    SIZES,
    SPEEDS,
    HeaderError,
    faults_in,
    name_of,
    read_header,
    read_table,
    rewritten,
    size_bytes,
)


def plain_header() -> bytes:
    """An ESP8266 image by hand: one segment of four bytes, its checksum at the end of the second line."""
    body = bytes.fromhex("E9 01 02 40 10 00 10 40") + bytes.fromhex("00 00 10 40 04 00 00 00") + b"\x01\x02\x04\x08"
    return body.ljust(31, b"\x00") + bytes([0xEF ^ 0x01 ^ 0x02 ^ 0x04 ^ 0x08])


class BootHeaders(unittest.TestCase):
    def test_a_plain_one(self) -> None:
        header = read_header(plain_header(), False)
        self.assertEqual((header.segments, header.entry), (((0x40100000, 4),), 0x40100010))
        self.assertEqual((header.mode, header.size, header.speed), (MODES["dio"], 4, SPEEDS["40"]))
        self.assertEqual((header.checksum_at, header.length, header.chip_id), (31, 32, None))
        self.assertTrue(header.checksum_right)

    def test_an_extended_one_with_a_digest(self) -> None:
        data = esp_image("gateway", 500).pieces[2].data
        header = read_header(data + b"\xff" * 40, True)
        self.assertEqual((header.chip_id, header.hashed, header.length), (0, True, len(data)))
        self.assertTrue(header.checksum_right and header.digest_right)

    def test_damage_is_seen(self) -> None:
        data = bytearray(plain_header())
        data[17] ^= 1
        self.assertFalse(read_header(bytes(data), False).checksum_right)
        data = bytearray(esp_image("gateway", 500).pieces[2].data)
        data[4] ^= 1  # the entry is summed by the digest alone
        header = read_header(bytes(data), True)
        self.assertEqual((header.checksum_right, header.digest_right), (True, False))

    def test_what_is_no_image(self) -> None:
        for data, said in (
            (b"", "nothing"), (b"\x7fELF" + bytes(40), "begins with 7F"), (plain_header()[:18], "beyond the end of the file"),
            (plain_header()[:24], "before its checksum"),
        ):  # fmt: skip
            with self.subTest(said), self.assertRaisesRegex(HeaderError, said):
                read_header(data, False)

    def test_rewriting_redoes_both_sums(self) -> None:
        data = esp_image("gateway", 500).pieces[2].data
        changed = rewritten(data, True, MODES["qio"], SIZES["16M"], SPEEDS["80"])
        header = read_header(changed, True)
        self.assertEqual((header.mode, header.size, header.speed), (0, 4, 15))
        self.assertTrue(header.checksum_right and header.digest_right)
        self.assertEqual(changed[-32:], hashlib.sha256(changed[:-32]).digest())
        self.assertEqual(changed[24:-32], data[24:-32])
        self.assertEqual(rewritten(data, True, None, None, None), data)

    def test_names_and_sizes(self) -> None:
        self.assertEqual((size_bytes("512K"), size_bytes("4M")), (524288, 4194304))
        self.assertEqual((name_of(2, SIZES), name_of(14, SIZES)), ("4M", "E"))


class Partitions(unittest.TestCase):
    table = esp_image("gateway", 500).pieces[1].data

    def test_rows(self) -> None:
        rows = read_table(self.table)
        self.assertEqual([row.label for row in rows], ["hives", "radio", "gateway", "pages"])
        self.assertEqual((rows[0].offset, rows[0].size, rows[0].holds_settings), (0x9000, 0x6000, True))
        self.assertEqual(faults_in(self.table, rows, 4 << 20), [])
        self.assertEqual(read_table(b"\xff" * 64), [])

    def test_what_is_wrong_with_one(self) -> None:
        rows = read_table(self.table)
        self.assertIn("pages ends at 38FFFF", faults_in(self.table, rows, 2 << 20)[0])
        wide = bytearray(self.table)
        wide[8:12] = (0x7000).to_bytes(4, "little")
        faults = faults_in(bytes(wide), read_table(bytes(wide)), 4 << 20)
        self.assertIn("hives (9000-FFFF) and radio (F000-FFFF) overlap", faults)
        self.assertIn("its MD5 is not that of its rows", faults)


class Pic18Jumps(unittest.TestCase):
    def test_goto_by_the_data_sheet(self) -> None:
        for address, shown in (
            (0, "00 EF 00 F0"),
            (0x200, "00 EF 01 F0"),
            (0xFC00, "00 EF 7E F0"),
            (0x1FC00, "00 EF FE F0"),
            (0x1FFFFE, "FF EF FF FF"),
        ):
            with self.subTest(f"{address:X}"):
                self.assertEqual(goto(address), bytes.fromhex(shown))
                self.assertEqual(goto_target(bytes.fromhex(shown)), address)
        for other in ("00 EF", "00 0C 00 F0", "00 EF 00 00"):
            self.assertIsNone(goto_target(bytes.fromhex(other)))

    def test_what_is_no_code_is_left_out_and_named(self) -> None:
        image = Image(
            "pump.hex",
            (Piece(0, bytes(8)), Piece(0x200000, bytes(8)), Piece(0x300000, bytes(14)), Piece(0xF00000, bytes(256))),
        )
        code, notes = code_only(image, 0x8000)
        self.assertEqual([piece.address for piece in code.pieces], [0])
        self.assertEqual([note.split(" left")[0] for note in notes],
                         ["user ids 00200000-00200007", "configuration words 00300000-0030000D", "EEPROM 00F00000-00F000FF"])  # fmt: skip
        beyond = Image("pump.hex", (Piece(0x9000, bytes(8)),))
        self.assertEqual(code_only(beyond, 0x8000), (beyond, ()))
        self.assertEqual(in_words(code), "in words 0000-0003")

    def test_bytes_put_into_an_image(self) -> None:
        image = Image("pump.hex", (Piece(0, b"abcdefgh"),))
        self.assertEqual(with_bytes(image, 2, b"XY").pieces, (Piece(0, b"abXYefgh"),))
        self.assertEqual(with_bytes(image, 6, b"WXYZ").pieces, (Piece(0, b"abcdefWXYZ"),))
        self.assertEqual(with_bytes(image, 0x100, b"XY").pieces, (Piece(0, b"abcdefgh"), Piece(0x100, b"XY")))


if __name__ == "__main__":
    unittest.main()
