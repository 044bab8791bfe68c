"""What an image's content says of itself: sums, blank share, entropy, texts, and for which family it begins."""

from __future__ import annotations

import hashlib
import random
import unittest
import zlib

from greenstep.bench.boards import BOARDS
from greenstep.bench.trial import sample_for
from greenstep.core.families import origins_of
from greenstep.core.families.avr import jump_target
from greenstep.core.families.esp import flash_bytes_said
from greenstep.core.families.family import Origin
from greenstep.core.image import Image, Piece
from greenstep.core.image.content import digest_of, look_into


def image(*pieces: tuple[int, bytes]) -> Image:
    return Image("bees", tuple(Piece(address, data) for address, data in pieces))


def texts_of(data: bytes) -> list[tuple[int, str, str]]:
    return [(found.address, found.text, found.kind) for found in look_into(image((0x100, data))).texts]


class Sums(unittest.TestCase):
    def test_gaps_count_as_erased(self) -> None:
        digest = digest_of(image((0x10, b"hive"), (0x20, b"scale")))
        whole = b"hive" + b"\xff" * 12 + b"scale"
        self.assertEqual((digest.crc32, digest.sha256), (zlib.crc32(whole), hashlib.sha256(whole).hexdigest()))
        self.assertFalse(digest.gaps_left_out)
        zeros = digest_of(image((0x10, b"hive"), (0x20, b"scale")), 0x00)
        self.assertEqual(zeros.crc32, zlib.crc32(whole.replace(b"\xff", b"\x00")))

    def test_enormous_gaps_are_left_out_and_said_so(self) -> None:
        digest = digest_of(image((0, b"hive"), (0xF0000000, b"scale")))
        self.assertEqual((digest.crc32, digest.gaps_left_out), (zlib.crc32(b"hivescale"), True))

    def test_blank_share_and_entropy(self) -> None:
        half = look_into(image((0, bytes(range(256)) + b"\xff" * 256)))
        self.assertEqual(half.blank_share, 0.5)
        self.assertAlmostEqual(look_into(image((0, bytes(range(256)) * 7))).entropy, 8.0)
        self.assertEqual(look_into(image((0, b"\xff" * 100))).entropy, 0.0)
        large = b"\x00\x01\x02" * 200_001  # a third each, of an odd number
        self.assertAlmostEqual(look_into(image((0, large))).entropy, 1.584962, 5)
        self.assertEqual(look_into(image((0, b"\xff" * 21))).blank_share, 1.0)
        self.assertEqual(look_into(image((0, bytes(64))), 0x00).blank_share, 1.0)


class Texts(unittest.TestCase):
    def test_texts_in_a_large_image_wherever_they_stand(self) -> None:
        for at in (0, (1 << 19) - 9, (1 << 20) - 18, (1 << 20) - 17, (1 << 20) - 1, (1 << 20) + 3000):
            data = bytearray(b"\xf3" * ((1 << 20) + 4000))
            data[at : at + 17] = b"hive scale 2.4.11"
            data[70000:70024] = b"built on 2026-11-02 here"
            with self.subTest(at):
                found = {text.text for text in look_into(image((0, bytes(data)))).texts}
                self.assertEqual(found, {"hive scale 2.4.11", "built on 2026-11-02 here"})

    def test_versions_and_dates(self) -> None:
        for text, kind in (
            ("hive scale 2.4 ready", "version"), ("frame lift v1.12.3", "version"), ("V3.1", "version"),
            ("built 2026-11-02", "date"), ("Nov  2 2026", "date"), ("12:34:56", "date"), ("03-Nov-2026", "date"),
        ):  # fmt: skip
            with self.subTest(text):
                self.assertEqual(texts_of(b"\x00\x01" + text.encode() + b"\x00\xfe"), [(0x102, text, kind)])

    def test_what_is_neither(self) -> None:
        for data in (b"\x003.14\x00", b"\x00bees in spring\x00", b"1-2-3", b"", b"2.", b"\x0019.5 20.5 21.5\x00"):
            with self.subTest(data):
                self.assertEqual(texts_of(data or b"\x00"), [])

    def test_each_stretch_once_and_at_most_a_hundred(self) -> None:
        self.assertEqual(len(texts_of(b"queen 1.2 and 3.4 and 5.6\x00")), 1)
        self.assertEqual(len(texts_of(b"hive 1.2 ready\x00" * 300)), 100)

    def test_random_bytes_are_looked_through(self) -> None:
        data = bytearray(random.Random(4).randbytes(200_000))
        data[1000:1022] = b"\x00rain gauge 0.7 ready\x00"
        self.assertIn((0x100 + 1001, "rain gauge 0.7 ready", "version"), texts_of(bytes(data)))


class Origins(unittest.TestCase):
    def only(self, whole: Image) -> Origin:
        found = origins_of(whole)
        self.assertEqual(len(found), 1)
        return found[0]

    def test_the_bench_programs_are_known_for_what_they_are(self) -> None:
        families = {
            "hive-scale": "avr", "frame-lift": "avr", "brood-probe": "cortex-m", "entrance-counter": "cortex-m",
            "apiary-gateway": "esp", "rain-gauge": "esp", "feeder-pump": "pic18",
        }  # fmt: skip
        for board, family in families.items():
            with self.subTest(board):
                self.assertIn(board, BOARDS)
                self.assertEqual(origins_of(sample_for(board, 2000))[0].family, family)

    def test_an_avr_table_of_jumps(self) -> None:
        reset, unused = bytes.fromhex("0C943400"), bytes.fromhex("0C943E00")
        found = self.only(image((0, reset + unused * 25 + b"\x11\x24" * 40)))
        self.assertEqual((found.family, found.jump, found.vectors, found.entry), ("avr", "JMP", 26, 0x68))
        self.assertEqual((found.unused, found.unused_to), (25, 0x7C))
        short = self.only(image((0, bytes.fromhex("12C0 2CC0 2BC0 2AC0") + b"\x11\x24" * 40)))
        self.assertEqual((short.jump, short.vectors, short.entry), ("RJMP", 4, 0x26))

    def test_targets_of_jumps(self) -> None:
        """AVR Instruction Set Manual: JMP 1001 010k kkkk 110k, RJMP 1100 kkkk kkkk kkkk."""
        self.assertEqual(jump_target(bytes.fromhex("0D940000"), 0), 0x20000)
        self.assertEqual(jump_target(bytes.fromhex("FFCF"), 0x100), 0x100)
        self.assertIsNone(jump_target(b"\x0c", 0))
        self.assertIsNone(jump_target(bytes.fromhex("FFFF"), 0))

    def test_a_cortex_m_program_that_lies_elsewhere(self) -> None:
        table = (0x20002000).to_bytes(4, "little") + (0x080001C1).to_bytes(4, "little")
        table += (0x080001D1).to_bytes(4, "little") * 14
        found = self.only(image((0, table + bytes.fromhex("00BF") * 300)))
        self.assertEqual((found.stack, found.entry, found.base), (0x20002000, 0x080001C0, 0x08000000))
        self.assertEqual((found.vectors >= 16, found.unused_to), (True, 0x080001D0))
        self.assertIsNone(self.only(image((0x08000000, table + bytes.fromhex("00BF") * 300))).base)

    def test_headers_upon_headers_are_not_all_summed(self) -> None:
        sector = bytes([0xE9, 1, 2, 0]) + bytes(8) + (3 << 20).to_bytes(4, "little")
        found = origins_of(image((0, sector.ljust(4096, b"\x01") * 1024)))
        self.assertLess(len(found), 8)

    def test_an_arm7_and_nothing_at_all(self) -> None:
        loads = bytes.fromhex("18F09FE5") * 8
        self.assertEqual(self.only(image((0, loads + bytes(100)))).family, "arm7")
        for data in (b"", b"\xff" * 200, b"honey" * 30, bytes(200)):
            self.assertEqual(origins_of(image((0, data or b"x"))), ())

    def test_a_merged_esp_image(self) -> None:
        program = sample_for("apiary-gateway", 5000)
        first = program.pieces[0]
        row = (
            b"\xaa\x50\x01\x02"
            + (0x9000).to_bytes(4, "little")
            + (0x6000).to_bytes(4, "little")
            + b"hives".ljust(20, b"\0")
        )
        merged = bytearray(b"\xff" * 0x9000) + first.data
        merged[0x7000:0x7020] = row
        found = origins_of(image((0x1000, bytes(merged))))
        self.assertEqual([origin.family for origin in found], ["esp partitions", "esp"])
        self.assertEqual((found[0].address, found[0].partitions[0].label), (0x8000, "hives"))
        header = found[1].header
        assert header is not None
        self.assertEqual((found[1].address, header.checksum_right, header.digest_right), (0xA000, True, True))
        self.assertEqual(flash_bytes_said(image((0x1000, bytes(merged)))), 4 << 20)
        self.assertIsNone(flash_bytes_said(image((0, b"honey"))))
        damaged = bytearray(first.data)
        damaged[100] ^= 1
        wrong = origins_of(image((0x10000, bytes(damaged))))[0].header
        assert wrong is not None
        self.assertFalse(wrong.checksum_right and wrong.digest_right)


if __name__ == "__main__":
    unittest.main()
