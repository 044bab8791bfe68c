"""The plan: exactly the erase units touched, blocks without blank ones, and its time."""

from __future__ import annotations

import unittest

from greenstep.bench.trial import run, sample_for
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.chips.part import Part
from greenstep.core.dialects.avr_061 import Avr061
from greenstep.core.dialects.registry import find_dialect
from greenstep.core.dialects.stm32_rom import Stm32Rom
from greenstep.core.errors import RefusedFault
from greenstep.core.image import Image, Piece
from greenstep.core.link import Frame, LineSettings
from greenstep.core.plan.layout import make_plan, price
from greenstep.core.plan.model import Plan, describe
from greenstep.core.plan.write_options import Keep, WriteOptions
from greenstep.core.spans import Span

ANY_VECTORS = WriteOptions(even_if=frozenset({"vectors"}))


def part(name: str) -> Part:
    return Catalogue.load().find(name).first


def plan(chip: str, *pieces: tuple[int, bytes], options: WriteOptions = ANY_VECTORS, memory: str = "flash") -> Plan:
    found = part(chip)
    dialect = Stm32Rom if found.dialect == "stm32-rom" else Avr061
    image = Image("plan.bin", tuple(Piece(address, data) for address, data in pieces))
    return make_plan(found, dialect, {memory: image}, options)


def spans(made: Plan) -> list[tuple[int, int]]:
    return [(block.address, len(block.data)) for block in made.memories[0].blocks]


class TakenAlong(unittest.TestCase):
    def along(self, chip: str, *pieces: tuple[int, int]) -> list[tuple[int, int]]:
        found = part(chip)
        dialect = find_dialect(found.dialect)
        image = Image("plan.bin", tuple(Piece(address, bytes(size)) for address, size in pieces))
        made = make_plan(found, dialect, {"flash": image}, ANY_VECTORS)
        return [(span.start, span.end) for span in made.memories[0].beside]

    def test_what_lies_between_the_pieces_where_a_loader_erases_in_order(self) -> None:
        self.assertEqual(self.along("atmega2560", (0, 700), (0x1004, 10)), [(0x300, 0x1000)])
        self.assertEqual(self.along("atmega2560", (0x1004, 10)), [(0, 0x1000)])
        self.assertEqual(self.along("atmega328p", (0x1004, 10)), [])

    def test_the_second_sector_of_one_where_a_rom_erases_two(self) -> None:
        self.assertEqual(self.along("esp8266", (0x20000, 100)), [(0x21000, 0x22000)])
        self.assertEqual(self.along("esp8266", (0x20000, 0x3000)), [])
        self.assertEqual(self.along("esp32", (0x20000, 100)), [])


class EraseUnits(unittest.TestCase):
    def test_exactly_those_touched(self) -> None:
        made = plan("stm32f103c8", (0x080003FF, b"ab"), (0x08002000, b"c"))
        self.assertEqual([unit.number for unit in made.memories[0].units], [0, 1, 8])

    def test_unequal_sectors(self) -> None:
        made = plan("stm32f407vg", (0x0800C000, bytes([1]) * 0x5000), (0x080E0000, b"abcd"))
        self.assertEqual([(u.number, u.size) for u in made.memories[0].units], [(3, 16384), (4, 65536), (11, 131072)])

    def test_all_is_all(self) -> None:
        made = plan(
            "stm32f103c8", (0x08000000, b"abcd"), options=WriteOptions(even_if=frozenset({"vectors"}), erase_all=True)
        )
        self.assertTrue(made.memories[0].whole_erase)
        self.assertEqual(made.memories[0].units, ())
        self.assertIn("erase all 64 KiB", describe(made))

    def test_all_is_refused_where_only_pages_are_erased(self) -> None:
        with self.assertRaises(RefusedFault) as caught:
            plan("atmega328p", (0, b"\x0c\x94\x34\x00"), options=WriteOptions(erase_all=True))
        self.assertEqual(caught.exception.finding.key, "erases-pages-only")

    def test_avr_erases_inside_the_write(self) -> None:
        self.assertEqual(plan("atmega328p", (0, b"\x0c\x94\x34\x00")).units, 0)


class Blocks(unittest.TestCase):
    def test_cut_at_multiples_of_the_block(self) -> None:
        made = plan("stm32f103c8", (0x080000F0, bytes([1]) * 0x120))
        self.assertEqual(spans(made), [(0x080000F0, 16), (0x08000100, 256), (0x08000200, 16)])

    def test_blank_blocks_are_left_out_by_the_parts_own_erased_value(self) -> None:
        data = bytes([1]) * 256 + bytes([0xFF]) * 256 + bytes(256) + bytes([2]) * 256
        self.assertEqual(
            [address & 0xFFF for address, _ in spans(plan("stm32f103c8", (0x08000000, data)))], [0, 0x200, 0x300]
        )
        self.assertEqual(
            [address & 0xFFF for address, _ in spans(plan("stm32l053r8", (0x08000000, data)))], [0, 0x100, 0x300]
        )

    def test_blank_blocks_are_verified_all_the_same(self) -> None:
        made = plan("stm32f103c8", (0x08000000, bytes([1]) * 256 + bytes([0xFF]) * 256))
        self.assertEqual(made.memories[0].checks, (Span(0x08000000, 0x08000200),))

    def test_blank_pages_are_written_where_writing_is_what_erases(self) -> None:
        made = plan("atmega328p", (0, b"\x0c\x94\x34\x00" + bytes([0xFF]) * 300))
        self.assertEqual(spans(made), [(0, 128), (128, 128), (256, 128)])
        self.assertEqual(made.memories[0].blocks[-1].data, bytes([0xFF]) * 128)

    def test_widened_to_write_units_with_the_erased_value(self) -> None:
        made = plan("stm32g071rb", (0x08000003, b"abc"), (0x08000020, b"de"))
        self.assertEqual(spans(made), [(0x08000000, 40)])
        self.assertEqual(made.memories[0].blocks[0].data[:8], b"\xff\xff\xffabc\xff\xff")
        low = plan("stm32l053r8", (0x08000001, b"a"))
        self.assertEqual(low.memories[0].blocks[0].data, b"\x00a\x00\x00")

    def test_a_wide_gap_is_not_written(self) -> None:
        made = plan("stm32l053r8", (0x08000000, b"abcd"), (0x08000100, b"efgh"))
        self.assertEqual(spans(made), [(0x08000000, 4), (0x08000100, 4)])

    def test_pages_with_a_hole_between(self) -> None:
        made = plan("atmega328p", (0x10, b"abcd"), (0x400, b"efgh"))
        self.assertEqual(spans(made), [(0, 128), (0x400, 128)])

    def test_eeprom_is_written_byte_by_byte_where_the_image_is(self) -> None:
        made = plan("atmega328p", (3, b"abc"), (100, b"de"), memory="eeprom")
        self.assertEqual(spans(made), [(3, 3), (100, 2)])


class Refusals(unittest.TestCase):
    def refused(
        self, key: str, chip: str, *pieces: tuple[int, bytes], options: WriteOptions = ANY_VECTORS
    ) -> RefusedFault:
        with self.assertRaises(RefusedFault) as caught:
            plan(chip, *pieces, options=options)
        self.assertEqual(caught.exception.finding.key, key)
        return caught.exception

    def test_room(self) -> None:
        self.refused("does-not-fit", "stm32f103c8", (0x0800FFFF, b"ab"))
        self.refused("does-not-fit", "stm32f103c8", (0x07FFFFFF, b"a"))
        self.refused("hits-bootloader", "atmega328p", (0x7E00, b"a"))
        plan("atmega328p", (0x7DFF, b"a"))
        plan("stm32f103c8", (0x0800FFFF, b"a"))

    def test_kept_room(self) -> None:
        def options(address: int) -> WriteOptions:
            return WriteOptions(keep=(Keep(address, 0x10, "names"),), even_if=frozenset({"vectors"}))

        fault = self.refused("keeps", "stm32f103c8", (0x08000000, b"a" * 0x400), options=options(0x080003F0))
        self.assertIn("names", fault.finding.cause)
        plan("stm32f103c8", (0x08000000, b"a"), options=options(0x080003F0))  # read before the unit is erased

    def test_vectors_can_be_gone_past(self) -> None:
        self.refused("vectors", "stm32f103c8", (0x08000000, bytes(64)), options=WriteOptions())
        self.assertIn("written anyway", plan("stm32f103c8", (0x08000000, bytes(64))).notes[0])

    def test_what_cannot_be_judged_is_said(self) -> None:
        made = plan("stm32f103c8", (0x08004000, bytes(64)), options=WriteOptions())
        self.assertIn("no vectors at 08000000", made.notes[0])
        self.assertIn(
            "does not begin with a jump", plan("atmega328p", (0, bytes(64)), options=WriteOptions()).notes[0]
        )

    def test_no_such_memory(self) -> None:
        with self.assertRaises(RefusedFault) as caught:
            plan("stm32f103c8", (0, b"a"), memory="eeprom")
        self.assertIn("has no eeprom", caught.exception.finding.cause)


class Estimates(unittest.TestCase):
    def test_near_what_the_bench_takes(self) -> None:
        for board in ("stm32f072", "stm32f407", "atmega328p", "atmega168"):
            with self.subTest(board):
                image = sample_for(board, 9412)
                trial = run(board, {"flash": image}, start=False)
                found = trial.step("erase").elapsed_s if board.startswith("stm32") else 0.0
                took = found + trial.step("write").elapsed_s + trial.step("verify").elapsed_s
                frame = Frame(8, "even", 1) if board.startswith("stm32") else Frame()
                baud = 57600 if board == "atmega168" else 115200
                dialect = Stm32Rom if board.startswith("stm32") else Avr061
                costs = price(make_plan(part(board), dialect, {"flash": image}, WriteOptions()), dialect)
                self.assertAlmostEqual(costs.seconds(LineSettings(baud, frame)) / took, 1.0, delta=0.05)


if __name__ == "__main__":
    unittest.main()
