"""Images changed, listed and compared: examples, and properties that hold for any image."""

from __future__ import annotations

import unittest

from hypothesis import strategies as st

from greenstep.core.image import Image, Piece, Section
from greenstep.core.image.compare import ByteDifference, compare
from greenstep.core.image.edit import HIGHEST, cut_out, filled, moved, with_bytes
from greenstep.core.image.listing import Fold, ListingRow, rows_of

from .examples import with_examples
from .test_intel_hex import apart, pieces


def image(*parts: tuple[int, bytes], start: int | None = None) -> Image:
    return Image("bees", tuple(Piece(address, data) for address, data in parts), start)


def held(whole: Image) -> dict[int, int]:
    """Every byte by its address."""
    return {p.address + n: byte for p in whole.pieces for n, byte in enumerate(p.data)}


class Changes(unittest.TestCase):
    def test_bytes_put_in(self) -> None:
        base = image((0x10, b"hive"), (0x20, b"scale"))
        self.assertEqual(with_bytes(base, 0x11, b"IV").pieces, image((0x10, b"hIVe"), (0x20, b"scale")).pieces)
        self.assertEqual(with_bytes(base, 0x14, b"s").pieces[0], Piece(0x10, b"hives"))
        self.assertEqual(with_bytes(base, 0x40, b"!").pieces[-1], Piece(0x40, b"!"))
        self.assertEqual(with_bytes(base, 0x12, b"x" * 16).pieces, (Piece(0x10, b"hi" + b"x" * 16 + b"ale"),)[:1])
        self.assertIs(with_bytes(base, 0, b""), base)

    def test_moved(self) -> None:
        base = Image("bees", (Piece(0x100, b"hive"),), 0x101, sections=(Section(".text", 0x100, 4),))
        there = moved(base, 0x700)
        self.assertEqual((there.pieces, there.start), ((Piece(0x800, b"hive"),), 0x801))
        self.assertEqual(there.sections, (Section(".text", 0x800, 4),))
        self.assertEqual(moved(image((0x100, b"hive"), start=0x9000), 16).start, 0x9000)
        for distance in (-0x101, HIGHEST):
            with self.assertRaises(ValueError):
                moved(base, distance)

    def test_filled(self) -> None:
        base = image((0x10, b"ab"), (0x14, b"cd"))
        self.assertEqual(filled(base, 0).pieces, (Piece(0x10, b"ab\0\0cd"),))
        self.assertEqual(filled(base, 0xFF, 0x0E, 0x18).pieces, (Piece(0x0E, b"\xff\xffab\xff\xffcd\xff\xff"),))
        self.assertEqual(filled(base, 0, 0x11, 0x13).pieces, (Piece(0x10, b"ab\0"), Piece(0x14, b"cd")))
        with self.assertRaises(ValueError):
            filled(base, 0, 0x20, 0x10)
        with self.assertRaises(ValueError):
            filled(image((0, b"a"), (0xF0000000, b"b")), 0)

    @with_examples(pieces, st.integers(0, 0xFFFFFF), st.binary(min_size=1, max_size=300), most=80)
    def test_only_what_is_put_in_changes(self, found: list[tuple[int, bytes]], address: int, data: bytes) -> None:
        before = image(*((p.address, p.data) for p in apart(found)))
        after = with_bytes(before, address, data)
        self.assertEqual(held(after), {**held(before), **{address + n: byte for n, byte in enumerate(data)}})
        ends = [piece.end for piece in after.pieces[:-1]]
        self.assertTrue(all(end < following.address for end, following in zip(ends, after.pieces[1:], strict=True)))

    @with_examples(pieces, st.integers(0, 0xFFFFFF), st.integers(1, 5000), most=80)
    def test_cut_and_the_rest_are_the_whole(self, found: list[tuple[int, bytes]], start: int, size: int) -> None:
        whole = image(*((p.address, p.data) for p in apart(found)))
        parts = [cut_out(whole, 0, start), cut_out(whole, start, start + size), cut_out(whole, start + size, HIGHEST)]
        together: dict[int, int] = {}
        for part in parts:
            together.update(held(part))
        self.assertEqual(together, held(whole))
        self.assertEqual(sum(part.size_bytes for part in parts), whole.size_bytes)


class Listing(unittest.TestCase):
    def test_blank_rows_and_gaps_are_folded(self) -> None:
        whole = image((0x108, b"hive" + b"\xff" * 100 + b"x"), (0x200, b"y"))
        rows = list(rows_of(whole, 0, 0x1000))
        self.assertEqual(rows[0], ListingRow(0x108, b"hive\xff\xff\xff\xff"))
        self.assertEqual(rows[1], Fold(0x110, 0x60, 0xFF))
        self.assertEqual(rows[2], ListingRow(0x170, b"x"))
        self.assertEqual(rows[3:], [Fold(0x171, 0x8F, None), ListingRow(0x200, b"y")])
        self.assertEqual(len([row for row in rows_of(whole, 0, 0x1000, ()) if isinstance(row, ListingRow)]), 9)

    @with_examples(
        st.integers(0, 300), st.lists(st.sampled_from([b"\xff" * 40, b"\0" * 90, b"queen", b"bees" * 9]), min_size=1)
    )
    def test_no_byte_is_lost(self, address: int, parts: list[bytes]) -> None:
        data = b"".join(parts)
        again = b"".join(
            row.data if isinstance(row, ListingRow) else bytes([row.value or 0]) * row.size
            for row in rows_of(image((address, data)), 0, HIGHEST)
        )
        self.assertEqual(again, data)


class Comparing(unittest.TestCase):
    def test_kinds_of_difference(self) -> None:
        found = compare(image((0, b"hive 2.4"), (0x100, b"a")), image((0, b"hive 2.5!!"), (0x200, b"\xff" * 32)))
        self.assertEqual(
            found.runs,
            (
                ByteDifference(7, 8, "differs"), ByteDifference(8, 10, "only-b"), ByteDifference(0x100, 0x101, "only-a"),
                ByteDifference(0x200, 0x220, "only-b", blank=True),
            ),
        )  # fmt: skip
        self.assertEqual((found.equal_bytes, found.same, found.blank_bytes), (7, False, 32))
        self.assertEqual((found.total("differs"), found.total("only-b")), (1, 34))

    def test_blank_bytes_of_one_make_no_difference(self) -> None:
        found = compare(image((0, b"hive")), image((0, b"hive" + b"\xff" * 60)))
        self.assertTrue(found.same)
        self.assertFalse(compare(image((0, b"hive")), image((0, b"hive" + b"\xff" * 60)), 0x00).same)
        mixed = compare(image((0, b"a")), image((0, b"a" + b"\xff" * 20 + b"b" + b"\xff" * 3)))
        self.assertEqual([(run.start, run.end, run.blank) for run in mixed.runs], [(1, 21, True), (21, 25, False)])

    @with_examples(pieces, pieces, most=80)
    def test_every_byte_is_told_once(self, one: list[tuple[int, bytes]], other: list[tuple[int, bytes]]) -> None:
        a, b = (image(*((p.address, p.data) for p in apart(found))) for found in (one, other))
        found = compare(a, b)
        in_a, in_b = held(a), held(b)
        told = {at: run.how for run in found.runs for at in range(run.start, run.end)}
        wanted = {
            at: "differs" if at in in_a and at in in_b else "only-a" if at in in_a else "only-b"
            for at in in_a.keys() | in_b.keys()
            if in_a.get(at) != in_b.get(at)
        }
        self.assertEqual(told, wanted)
        self.assertEqual(found.equal_bytes, sum(in_a[at] == in_b[at] for at in in_a.keys() & in_b.keys()))
        self.assertTrue(compare(a, a).same)


if __name__ == "__main__":
    unittest.main()
