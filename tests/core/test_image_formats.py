"""S-record, TI-TXT and ELF: a table of files for each reader, faults with their places, round trips, damaged files."""

from __future__ import annotations

import io
import random
import unittest
from collections.abc import Callable, Iterable
from math import inf
from unittest import mock

from hypothesis import strategies as st

from benchmarks.damaged_files import samples, try_one
from greenstep.core.image import Image, ImageFault, Piece, Section, text_lines
from greenstep.core.image.avr_memories import memory_of
from greenstep.core.image.elf import read_elf
from greenstep.core.image.file_formats import recognise
from greenstep.core.image.intel_hex import read_intel_hex, write_intel_hex
from greenstep.core.image.s_record import read_s_record, write_s_record
from greenstep.core.image.ti_txt import read_ti_txt, write_ti_txt

from ..elf_files import ARM, AVR, elf_file
from ..sample import WHOLE
from .examples import with_examples
from .test_intel_hex import apart, pieces, record


def line(kind: int, address: int, data: bytes = b"") -> str:
    """A right S-record, built as the format says."""
    place = address.to_bytes((2, 2, 3, 4, 0, 2, 3, 4, 3, 2)[kind], "big")
    body = [len(place) + len(data) + 1, *place, *data]
    return f"S{kind}" + "".join(f"{byte:02X}" for byte in [*body, 0xFF - sum(body) % 256])


def read(reader: Callable[[io.BytesIO, str], Image], content: str | bytes) -> Image:
    return reader(io.BytesIO(content.encode("latin-1") if isinstance(content, str) else content), "bees.txt")


END = line(9, 0)
ONE = line(1, 0, b"ab")
GOOD_S = {
    "one record": (f"{line(1, 0x10, b'hive')}\n{END}\n", [(0x10, b"hive")]),
    "CR LF": (f"{ONE}\r\n{line(1, 2, b'cd')}\r\n{END}\r\n", [(0, b"abcd")]),
    "CR alone": (f"{ONE}\r{line(1, 2, b'cd')}\r{END}\r", [(0, b"abcd")]),
    "lower-case digits": (f"{line(1, 0, bytes([0xAB, 0xCD]))[:2]}050000abcd82\n{END}", [(0, b"\xab\xcd")]),
    "blank lines, blanks behind": (f"\n{ONE}  \n\n{END}\n\n\x1a", [(0, b"ab")]),
    "text before the first record": (f"frame lift 2\n{ONE}\n{END}\n", [(0, b"ab")]),
    "24 and 32 bits": (
        f"{line(2, 0x10000, b'ab')}\n{line(3, 0x08000000, b'cd')}\n{line(7, 0x08000000)}\n",
        [(0x10000, b"ab"), (0x08000000, b"cd")],
    ),
    "a header, a count": (f"{line(0, 0, b'hive')}\n{ONE}\n{line(5, 1)}\n{END}\n", [(0, b"ab")]),
    "a count of 24 bits": (f"{ONE}\n{line(6, 1)}\n{END}\n", [(0, b"ab")]),
    "out of order": (f"{line(1, 2, b'cd')}\n{ONE}\n{END}\n", [(0, b"abcd")]),
    "overlap that agrees": (f"{line(1, 0, b'abcd')}\n{line(1, 2, b'cdef')}\n{END}\n", [(0, b"abcdef")]),
    "an empty data record": (f"{line(1, 7)}\n{ONE}\n{END}\n", [(0, b"ab")]),
    "252 bytes in a record": (f"{line(1, 0, bytes(252))}\n{END}\n", [(0, bytes(252))]),
    "no end": (f"{ONE}\n", [(0, b"ab")]),
}  # fmt: skip
BAD_S = {
    "wrong checksum": (f"{ONE[:-2]}00\n", 1, "checksum 00", "from the line's bytes"),
    "lost characters": (f"{ONE}\n{line(1, 2, b'cdef')[:-4]}\n", 2, "cut short", "the record's count"),
    "too many characters": (f"{ONE}00\n", 1, "too many characters", "as the record's count"),
    "half a byte": (f"{ONE[:-1]}\n", 1, "odd number", "two digits"),
    "no hex digit": (ONE.replace("61", "6G") + "\n", 1, "'G' in column 10", "hex digit"),
    "too short": ("S104000000\n".replace("04000000", "0300"), 1, "only 4 hex digits", "at least 8"),
    "reserved type": ("S40300000C\n", 1, "record type 'S4'", "no S4"),
    "no type": ("S\n", 1, "record type 'S'", "S0 to S9"),
    "text in the middle": (f"{ONE}\nhello bees\n{END}\n", 2, "'hello bees'", "an S-record"),
    "a record after the end": (f"{ONE}\n{END}\n{ONE}\n", 3, "end record of line 2", "nothing"),
    "a count that is not theirs": (f"{ONE}\n{line(5, 2)}\n{END}\n", 2, "1 data records", "2, as it says"),
    "data in the end record": (f"{ONE}\n{line(9, 0, b'x')}\n", 2, "1 data bytes in an S9", "none"),
    "beyond 4 GiB": (f"{line(3, 0xFFFFFFFF, b'ab')}\n", 1, "beyond", "32-bit"),
    "overlap that disagrees": (
        f"{ONE}\n{line(1, 4, b'x')}\n{line(1, 1, b'cd')}\n",
        3,
        "where line 1 has 62",
        "agree",
    ),
    "nothing in it": ("just text\n", None, "no S-record", "'S'"),
    "no data in it": (f"{line(0, 0, b'hive')}\n{END}\n", None, "no data", "data record"),
}
GOOD_TI = {
    "one section": ("@F000\n31 40 00 03\nq\n", [(0xF000, b"1@\x00\x03")]),
    "CR LF, lower case": ("@f000\r\nab cd\r\nq\r\n", [(0xF000, b"\xab\xcd")]),
    "two sections, no newline at the end": ("@10\n01\n@20\n02\nq", [(0x10, b"\x01"), (0x20, b"\x02")]),
    "sections that meet": ("@10\n01 02\n@12\n03\nq", [(0x10, b"\x01\x02\x03")]),
    "an empty section, blank lines": ("@0\n\n@10\n\n01\nq\n\n", [(0x10, b"\x01")]),
    "wide addresses": ("@8000000\n01\nq\n", [(0x08000000, b"\x01")]),
    "overlap that agrees": ("@0\n01 02\n@1\n02 03\nq\n", [(0, b"\x01\x02\x03")]),
    "no end": ("@0\n01\n", [(0, b"\x01")]),
}
BAD_TI = {
    "no digits": ("@0\n01 0G\nq\n", 2, "'0G' as byte 2", "two hex digits"),
    "half a byte": ("@0\n01 2\nq\n", 2, "'2' as byte 2", "two hex digits"),
    "no blank between": ("@0\n0102\nq\n", 2, "'0102' as byte 1", "spaces between"),
    "data before an address": ("01 02\n@0\nq\n", 1, "before any address", "'@'"),
    "no address": ("@xyz\n01\nq\n", 1, "'@xyz'", "an address"),
    "an address beyond 4 GiB": ("@100000000\n01\nq\n", 1, "beyond", "32-bit"),
    "data beyond 4 GiB": ("@FFFFFFFF\n01 02\nq\n", 2, "beyond", "32-bit"),
    "data after the end": ("@0\n01\nq\n02\n", 4, "end 'q' of line 3", "nothing"),
    "overlap that disagrees": ("@0\n01 02\n@1\n07\nq\n", 4, "byte 07 at 0001, where line 2 has 02", "agree"),
    "no data in it": ("@0\nq\n", None, "no data", "bytes after"),
}


class TextFormats(unittest.TestCase):
    def test_real_files_in_chunks_of_any_size(self) -> None:
        for reader, files in ((read_s_record, GOOD_S), (read_ti_txt, GOOD_TI)):
            for size in (1, 7, 1 << 19):
                for name, (text, expected) in files.items():
                    with self.subTest(name, chunk=size), mock.patch.object(text_lines, "_CHUNK_BYTES", size):
                        self.assertEqual([(p.address, p.data) for p in read(reader, text).pieces], expected)

    def test_faults_name_line_found_and_expected(self) -> None:
        for reader, files in ((read_s_record, BAD_S), (read_ti_txt, BAD_TI)):
            for name, (text, number, found, expected) in files.items():
                with self.subTest(name), self.assertRaises(ImageFault) as caught:
                    read(reader, text)
                self.assertEqual(caught.exception.line, number, name)
                self.assertIn(found, caught.exception.finding.cause)
                self.assertIn(expected, caught.exception.finding.evidence[0])

    def test_a_damaged_record_in_a_large_file_names_its_line(self) -> None:
        lines = [line(3, 0x08000000 + 16 * n, bytes(range(16))) for n in range(3000)]
        for number in (1, 1234, 3000):
            damaged = [*lines]
            damaged[number - 1] = damaged[number - 1][:20] + "F" + damaged[number - 1][21:]
            with self.assertRaises(ImageFault) as caught:
                read(read_s_record, "\n".join([*damaged, line(7, 0), ""]))
            self.assertEqual(caught.exception.line, number)

    def test_what_a_file_says_besides(self) -> None:
        image = read(read_s_record, f"{line(0, 0, b'frame lift 2')}\n{ONE}\n{line(9, 0x40)}\n")
        self.assertEqual((image.start, image.header, image.notes), (0x40, "frame lift 2", ()))
        for reader, text in ((read_s_record, ONE), (read_ti_txt, "@0\n01\n")):
            self.assertIn("cut short", read(reader, text).notes[0])
        self.assertIsNone(read(read_s_record, f"{ONE}\n{END}\n").start)

    def test_addresses_that_count_words(self) -> None:
        words = [record(8 * n, bytes([n] * 16)) for n in range(4)]
        with self.assertRaises(ImageFault) as caught:
            read(read_intel_hex, "\n".join([*words, ":00000001FF", ""]))
        self.assertIn("count words", caught.exception.finding.cause)

    def test_formats_are_told_by_content(self) -> None:
        kinds = {"@F000\nzz\n": "TI-TXT", f"hello\n{ONE}\n": "S-record", "@ the hive\n": "raw binary"}
        for text, kind in kinds.items():
            self.assertEqual(recognise(text.encode()), kind)


class Elf(unittest.TestCase):
    def test_segments_lie_at_physical_addresses(self) -> None:
        content = elf_file(
            [(0x08000000, bytes(range(64))), (0x08000100, b"variables")], entry=0x08000041, virtual=0x20000000,
            sections=[(".isr_vector", 0, 0, 16), (".text", 0, 16, 48), (".data", 1, 0, 9)], memory_only=100,
        )  # fmt: skip
        image = read(read_elf, content)
        self.assertEqual(image.pieces, (Piece(0x08000000, bytes(range(64))), Piece(0x08000100, b"variables")))
        self.assertEqual((image.start, image.machine, image.format), (0x08000041, "arm", "ELF"))
        self.assertEqual(
            image.sections,
            (
                Section(".isr_vector", 0x08000000, 16),
                Section(".text", 0x08000010, 48),
                Section(".data", 0x08000100, 9),
            ),
        )
        self.assertEqual(read(read_elf, elf_file([(0, b"ab")], machine=AVR)).machine, "avr")

    def test_an_avr_has_its_memories_apart(self) -> None:
        file = elf_file([(0, b"\x0c\x94" * 9), (0x810000, b"hive 7"), (0x820000, b"\xff\xd9\xfd")], machine=AVR)
        image = read(read_elf, file)
        flash, eeprom = memory_of(image, "flash"), memory_of(image, "eeprom")
        self.assertEqual((flash.pieces, eeprom.pieces), ((Piece(0, b"\x0c\x94" * 9),), (Piece(0, b"hive 7"),)))
        self.assertEqual(
            [note.split(":")[0] for note in flash.notes],
            ["6 bytes of EEPROM in the file left out", "3 bytes of fuses in the file left out"],
        )
        for pieces_, memory in (([(0, b"ab")], "eeprom"), ([(0x810000, b"ab")], "flash")):
            with self.assertRaises(ImageFault):
                memory_of(read(read_elf, elf_file(pieces_, machine=AVR)), memory)
        other = read(read_elf, elf_file([(0x08000000, b"ab")]))
        self.assertIs(memory_of(other, "flash"), other)

    def test_faults(self) -> None:
        whole = elf_file([(0x100, b"hive" * 20)])
        cases = {
            "cut in the segment": (whole[:120], "after the end of the file"),
            "cut in the header": (whole[:40], "the ELF file is damaged"),
            "not linked": (elf_file([(0, b"ab")], kind=1), "not linked yet"),
            "a library": (elf_file([(0, b"ab")], kind=3), "a shared object"),
            "nothing to load": (elf_file([]), "no segment to load"),
            "only variables": (elf_file([(0x100, b"")], memory_only=9), "no segment to load"),
            "two that disagree": (
                elf_file([(0, b"abcd"), (2, b"xy")]),
                "byte 78 at 0002 in segment 1, where segment 0",
            ),
            "far away": (elf_file([(0xFFFFFFFF, b"ab")]), "segment 0 has 2 bytes at FFFFFFFF"),
        }
        for name, (content, said) in cases.items():
            with self.subTest(name), self.assertRaises(ImageFault) as caught:
                read(read_elf, content)
            self.assertIn(said, caught.exception.finding.cause)
        self.assertEqual(read(read_elf, elf_file([(0, b"abcd"), (2, b"cd")], ARM)).pieces, (Piece(0, b"abcd"),))


class RoundTrips(unittest.TestCase):
    @with_examples(pieces, st.integers(1, 250), st.one_of(st.none(), st.integers(1, 0xFFFFFFFF)))
    def test_s_record(self, found: list[tuple[int, bytes]], size: int, start: int | None) -> None:
        image = Image("bees.txt", apart(found), start)
        again = read(read_s_record, "".join(write_s_record(image, size)))
        self.assertEqual((again.pieces, again.start, again.notes), (image.pieces, start, ()))

    @with_examples(pieces, st.integers(1, 255))
    def test_ti_txt(self, found: list[tuple[int, bytes]], size: int) -> None:
        image = Image("bees.txt", apart(found))
        self.assertEqual(read(read_ti_txt, "".join(write_ti_txt(image, size))).pieces, image.pieces)

    @with_examples(pieces, st.permutations(["hex", "s-record", "ti-txt"]), most=40)
    def test_through_one_another(self, found: list[tuple[int, bytes]], order: list[str]) -> None:
        ways: dict[str, tuple[Callable[[Image], Iterable[str]], Callable[[io.BytesIO, str], Image]]] = {
            "hex": (write_intel_hex, read_intel_hex),
            "s-record": (write_s_record, read_s_record),
            "ti-txt": (write_ti_txt, read_ti_txt),
        }
        image = Image("bees.txt", apart(found))
        for way in order:
            write, reader = ways[way]
            image = read(reader, "".join(write(image)))
        self.assertEqual(image.pieces, apart(found))

    def test_out_of_reach(self) -> None:
        beyond = Image("far", (Piece(0xFFFFFFFF, b"ab"),))
        for writer in (write_s_record, write_ti_txt):
            with self.assertRaises(ValueError):
                list(writer(beyond))
            with self.assertRaises(ValueError):
                list(writer(Image("near", (Piece(0, b"ab"),)), 0))


class DamagedFiles(unittest.TestCase):
    def test_each_is_read_or_refused(self) -> None:
        """`python -m benchmarks.damaged_files` does twenty thousand of them."""
        files = samples()
        source = random.Random(17)
        ended = {try_one(source.choice(files), source.random(), inf)[0] for _ in range(500 if not WHOLE else 20_000)}
        self.assertEqual(ended, {"read", "refused"})


if __name__ == "__main__":
    unittest.main()
