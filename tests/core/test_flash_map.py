"""Maps: every byte of a memory lies in one stretch, and the signs say what is there."""

from __future__ import annotations

import unittest

from hypothesis import strategies as st

from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.registry import find_dialect
from greenstep.core.image import Image, Piece
from greenstep.core.image.fit import free_runs, hold_against, units_of
from greenstep.core.image.flash_map import ROW_CELLS, FlashMap, Stretch, grid_of, map_of, map_of_images
from greenstep.core.plan.write_options import Keep

from .examples import with_examples

SCALE = Catalogue.load().find("atmega328p").first
GATEWAY = Catalogue.load().find("esp32").first
COUNTER = Catalogue.load().find("lpc1769").first
PUMP = Catalogue.load().find("pic18f4520").speaking("pic-an851").first


def image(*parts: tuple[int, int], name: str = "bees") -> Image:
    return Image(name, tuple(Piece(address, b"\x55" * size) for address, size in parts))


class Maps(unittest.TestCase):
    def assert_whole(self, drawn: FlashMap) -> None:
        """No byte is left out, and none is free and something else."""
        at = drawn.start
        for stretch in drawn.stretches:
            self.assertLessEqual(stretch.start, at)
            at = max(at, stretch.end)
        self.assertEqual(at, drawn.end)
        for free in (s for s in drawn.stretches if s.kind == "free"):
            others = [s for s in drawn.stretches if s is not free and s.start < free.end and free.start < s.end]
            self.assertEqual(others, [])

    def test_a_small_flash_with_its_bootloader(self) -> None:
        drawn = map_of(SCALE.flash, [image((0, 9412))])
        self.assert_whole(drawn)
        self.assertEqual(
            drawn.stretches,
            (Stretch(0, 9412, "image", 0), Stretch(9412, 0x7E00, "free"), Stretch(0x7E00, 0x8000, "bootloader")),
        )
        self.assertEqual((len(drawn.units), drawn.held(0), drawn.total("free")), (256, 9412, 0x7E00 - 9412))
        grid = grid_of(drawn)
        self.assertEqual((grid.cell_bytes, len(grid.rows)), (32, 16))
        signs = "".join("A" if c.kind == "image" and c.full else c.kind[0] for _, cells in grid.rows for c in cells)
        self.assertEqual(signs, "A" * 294 + "i" + "f" * (1008 - 295) + "b" * 16)

    def test_several_images_kept_room_and_a_bootloader_below(self) -> None:
        flash = GATEWAY.flash.resized(4 << 20)
        images = [image((0x1000, 2128)), image((0x8000, 160)), image((0x10000, 9488)), image((0x290000, 16706))]
        drawn = map_of(flash, images, [Keep(0x9000, 0x6000, "settings")])
        self.assert_whole(drawn)
        self.assertIn(Stretch(0x9000, 0xF000, "kept", why="settings"), drawn.stretches)
        rows = grid_of(drawn).rows
        self.assertEqual([address for address, _ in rows][:2], [0, 0x40000])
        self.assertEqual(
            [(c.number, c.full) for c in rows[0][1][:18] if c.kind == "image"],
            [(0, False), (1, False), (2, True), (2, True)],
        )
        below = map_of(PUMP.flash, [image((0x200, 64))])
        self.assert_whole(below)
        self.assertEqual(below.stretches[0], Stretch(0, 0x200, "bootloader"))

    def test_images_alone_and_two_in_one_cell(self) -> None:
        drawn = map_of_images([image((0x100, 20)), image((0x120, 5))])
        self.assertEqual((drawn.start, drawn.end, drawn.units), (0x100, 0x130, ()))
        self.assert_whole(drawn)
        wide = grid_of(map_of_images([image((0, 8)), image((10, 2)), image((1 << 20, 1))]))
        self.assertTrue(wide.rows[0][1][0].clash)

    @with_examples(
        st.lists(st.tuples(st.integers(0, 0x8400), st.integers(1, 3000)), min_size=1, max_size=5),
        st.lists(st.tuples(st.integers(0, 0x7000), st.integers(1, 3000)), max_size=3),
    )
    def test_any_map_is_whole(self, found: list[tuple[int, int]], kept: list[tuple[int, int]]) -> None:
        images = [image(one) for one in found]
        drawn = map_of(SCALE.flash, images, [Keep(at, size) for at, size in kept])
        self.assert_whole(drawn)
        grid = grid_of(drawn)
        self.assertEqual(sum(len(cells) for _, cells in grid.rows) * grid.cell_bytes, drawn.size)
        self.assertTrue(all(len(cells) <= ROW_CELLS for _, cells in grid.rows))


class Fits(unittest.TestCase):
    def test_units_and_free_room(self) -> None:
        self.assertEqual([unit.number for unit in units_of(COUNTER.flash, [image((0x0FF0, 0x20))])], [0, 1])
        self.assertEqual(
            free_runs(SCALE.flash, [image((0x100, 1), (0x400, 1))]), ((0x480, 0x7980), (0x180, 0x280), (0, 0x100))
        )
        self.assertEqual(free_runs(SCALE.flash, [image((0, 0x7E00))]), ())

    def test_every_refusal_is_told(self) -> None:
        dialect = find_dialect("avr-061")
        text = Image("honey", (Piece(0, b"honey and bees in spring, all the summer long"), Piece(0x7E00, b"x")))
        fit = hold_against(SCALE, dialect, {"flash": text})
        self.assertEqual([finding.key for finding in fit.refusals], ["hits-bootloader"])
        short = Image("honey", text.pieces[:1])
        fit = hold_against(SCALE, dialect, {"flash": short})
        self.assertEqual(([f.key for f in fit.against], fit.plan is not None, fit.locks), (["vectors"], True, None))

    def test_an_image_that_would_lock_is_told_so_and_still_planned(self) -> None:
        table = b"".join(word.to_bytes(4, "little") for word in (0x10001000, 0x401, *[0x401] * 14))
        locking = Image(
            "guard",
            (Piece(0, table), Piece(0x2FC, (0x12345678).to_bytes(4, "little")), Piece(0x400, b"\x00\xbf" * 8)),
        )
        fit = hold_against(COUNTER, find_dialect("lpc-isp"), {"flash": locking}, {"crystal-khz": 12000})
        assert fit.locks is not None
        self.assertIn("would lock", fit.locks.cause)
        self.assertEqual((fit.against, fit.plan is not None), ((), True))

    def test_a_file_for_another_processor(self) -> None:
        program = Image("probe", (Piece(0, bytes.fromhex("0C943400") * 40),), machine="arm")
        fit = hold_against(SCALE, find_dialect("avr-061"), {"flash": program})
        self.assertIn("another processor: arm", fit.against[0].cause)


if __name__ == "__main__":
    unittest.main()
