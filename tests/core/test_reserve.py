"""Room for resident bootloaders: the numbers that data sheets give, jumps, and reset vectors moved."""

from __future__ import annotations

import unittest

from greenstep.bench.trial import sample_for
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.chips.part import Part
from greenstep.core.errors import RefusedFault, UsageFault
from greenstep.core.families import reserve
from greenstep.core.families.avr import jump_code, jump_target
from greenstep.core.families.pic18 import goto, goto_target
from greenstep.core.image import Image, Piece
from greenstep.core.image.edit import with_bytes
from greenstep.core.loaders.neighbours import check_application, with_reset_moved


def part(name: str) -> Part:
    return Catalogue.load().find(name).first


class Rooms(unittest.TestCase):
    def test_avr_boot_sections(self) -> None:
        """Start of each boot section in words, as the data sheets' tables "Boot Size Configuration" have it."""
        for name, size, start_word in (
            ("atmega328p", 500, 0x3F00), ("atmega328p", 513, 0x3E00), ("atmega328p", 4096, 0x3800),
            ("atmega168", 256, 0x1F80), ("atmega168", 2048, 0x1C00), ("atmega8", 512, 0xF00), ("atmega8", 2048, 0xC00),
            ("atmega2560", 8192, 0x1F000), ("atmega1284p", 1024, 0xFE00), ("atmega32u4", 4096, 0x3800),
        ):  # fmt: skip
            with self.subTest(name, size=size):
                plan = reserve(part(name), size)
                self.assertEqual(plan.start // 2, start_word)
                self.assertEqual(plan.end, part(name).flash.end)

    def test_top_and_bottom_by_erase_units(self) -> None:
        cases = {
            ("stm32f103c8", 7000, "top"): (0x0800E400, 0x08010000, 0x08000000, 0x0800E3F8),
            ("stm32f103c8", 7000, "bottom"): (0x08000000, 0x08001C00, 0x08001C00, 0x08010000),
            ("stm32f407vg", 20480, "bottom"): (0x08000000, 0x08008000, 0x08008000, 0x08100000),
            ("stm32f407vg", 20480, "top"): (0x080E0000, 0x08100000, 0x08000000, 0x080DFFF8),
            ("stm32l053r8", 700, "bottom"): (0x08000000, 0x08000400, 0x08000400, 0x08010000),
            ("lpc1769", 4096, "bottom"): (0, 0x1000, 0x1000, 0x80000),
            ("pic18f4520", 500, "bottom"): (0, 0x200, 0x200, 0x8000),
            ("pic18f46k22", 1000, "top"): (0xFC00, 0x10000, 0, 0xFBFC),
        }
        for (name, size, side), wanted in cases.items():
            with self.subTest(name, side=side):
                plan = reserve(part(name), size, "top" if side == "top" else "bottom")
                self.assertEqual((plan.start, plan.end, plan.app_start, plan.app_end), wanted)
        self.assertEqual(reserve(part("stm32f103c8"), 100).side, "bottom")
        linker = dict(reserve(part("stm32f407vg"), 20480).linker)
        self.assertEqual(linker["application"], "FLASH (rx) : ORIGIN = 0x8008000, LENGTH = 0xF8000")

    def test_what_cannot_be(self) -> None:
        for name, size, side in (
            ("atmega328p", 5000, None), ("atmega328p", 500, "bottom"), ("esp32", 500, None), ("any", 500, None),
            ("lpc2148", 500, None), ("stm32f103c8", 1 << 20, None), ("stm32f103c8", 0, None),
            ("stm32f103c8", 0xFFFF, "bottom"), ("pic18f4520", 0x7FFF, "top"),
        ):  # fmt: skip
            with self.subTest(name, size=size), self.assertRaises(UsageFault):
                reserve(part(name), size, side)  # type: ignore[arg-type]

    def test_jumps_lead_where_they_say(self) -> None:
        for flash in (8192, 32768, 262144):
            for target in (0, 0x100, flash - 512):
                code = jump_code(0, target, flash)
                self.assertEqual(len(code), 2 if flash == 8192 else 4)
                found = jump_target(code, 0)
                assert found is not None
                self.assertEqual(found % flash, target)
        for plan in (reserve(part("pic18f46k22"), 1000), reserve(part("pic18f4520"), 500, "bottom")):
            for jump in plan.jumps:
                self.assertIn(f"{goto_target(jump.code):04X}", jump.words)
        self.assertEqual(reserve(part("atmega328p"), 2000).jumps[0].code, bytes.fromhex("0C94003C"))


class Applications(unittest.TestCase):
    def test_held_against_the_room(self) -> None:
        scale = sample_for("hive-scale", 4000)
        self.assertEqual(check_application(reserve(part("atmega328p"), 500), scale), ())
        probe = sample_for("brood-probe", 3000)
        with self.assertRaises(RefusedFault) as caught:
            check_application(reserve(part("stm32f072rb"), 4096), probe)
        self.assertEqual(caught.exception.findings[0].key, "hits-bootloader")
        low = Image("probe", (Piece(0x08001000, probe.pieces[0].data),))
        with self.assertRaises(RefusedFault) as caught:
            check_application(reserve(part("stm32f072rb"), 4096), low)
        self.assertIn("points outside the flash", caught.exception.findings[0].cause)
        config = Image("pump", (Piece(0x300000, b"\x01\x02"),))
        self.assertEqual(check_application(reserve(part("pic18f4520"), 500), config), ("it holds no code",))

    def test_reset_moved_on_avr_and_pic(self) -> None:
        for name, board in (("atmega328p", "hive-scale"), ("pic18f46k22", "feeder-pump")):
            image = sample_for(board, 4000)
            with self.subTest(name):
                plan = reserve(part(name), 1000)
                moved, notes = with_reset_moved(plan, image, None)
                decode = goto_target if name.startswith("pic") else lambda code: jump_target(code, 0)
                target = decode(image.cut(0, 4, 0xFF))
                self.assertEqual(decode(moved.cut(0, 4, 0xFF)), plan.start)
                assert plan.slot is not None
                self.assertEqual(decode(moved.cut(plan.slot, 4, 0xFF)), target)
                self.assertEqual(moved.cut(4, 3900, 0xFF), image.cut(4, 3900, 0xFF))
                self.assertEqual(len(notes), 2)
                self.assertEqual(with_reset_moved(plan, moved, None)[0], moved)

    def test_reset_moved_by_relative_jumps(self) -> None:
        """RJMP is counted from where it stands: the application's own is recomputed for its slot."""
        plan = reserve(part("atmega8"), 512)
        image = Image("bees", (Piece(0, jump_code(0, 0x26, 8192) + bytes.fromhex("2CC0") * 18 + bytes(100)),))
        moved, _ = with_reset_moved(plan, image, None)
        assert plan.slot is not None
        own = jump_target(moved.cut(plan.slot, 2, 0xFF), plan.slot)
        assert own is not None
        self.assertEqual(own % 8192, 0x26)
        self.assertEqual(jump_target(moved.cut(0, 2, 0xFF), 0), plan.start - 8192)

    def test_reset_moved_on_a_cortex_m(self) -> None:
        plan = reserve(part("stm32f072rb"), 4096, "top")
        probe = sample_for("brood-probe", 3000)
        loader = Image("loader", (Piece(plan.start, bytes.fromhex("00200020 C1F00108") + bytes(100)),))
        moved, _ = with_reset_moved(plan, probe, loader)
        assert plan.slot is not None
        self.assertEqual(moved.cut(0x08000000, 8, 0xFF), loader.cut(plan.start, 8, 0xFF))
        self.assertEqual(moved.cut(plan.slot, 8, 0xFF), probe.cut(0x08000000, 8, 0xFF))
        self.assertEqual(with_reset_moved(plan, moved, loader)[0], moved)
        elsewhere = Image("loader", (Piece(0x08000000, bytes(100)),))
        with self.assertRaises(RefusedFault):
            with_reset_moved(plan, probe, elsewhere)
        with self.assertRaises(UsageFault):
            with_reset_moved(plan, probe, None)

    def test_what_has_no_jump_to_move(self) -> None:
        scale = sample_for("hive-scale", 1000)
        plan = reserve(part("atmega328p"), 500)
        for head in (b"\xff\xff\xff\xff", b"bees", bytes.fromhex("12C011C0")):
            with self.subTest(head), self.assertRaises(RefusedFault):
                with_reset_moved(plan, with_bytes(scale, 0, head), None)
        with self.assertRaises(RefusedFault):
            with_reset_moved(plan, Image("late", (Piece(0x100, b"bees"),)), None)
        with self.assertRaises(UsageFault):
            with_reset_moved(reserve(part("stm32f103c8"), 4096, "bottom"), scale, None)
        pump = with_bytes(sample_for("feeder-pump", 600), 0, goto(0xFC00))
        same, notes = with_reset_moved(reserve(part("pic18f46k22"), 1000), pump, None)
        self.assertEqual((same, "already" in notes[0]), (pump, True))


if __name__ == "__main__":
    unittest.main()
