"""The catalogue: every id of the chip makers' documents, and the names people use."""

from __future__ import annotations

import tomllib
import unittest
from pathlib import Path
from unittest.mock import patch

from greenstep.core.chips import catalogue
from greenstep.core.chips.catalogue import Catalogue, UnknownChip
from greenstep.core.chips.part import EraseUnit
from greenstep.core.dialects.registry import dialect_names

STM32_IDS = [
    "412",
    "410",
    "414",
    "418",
    "420",
    "428",
    "430",
    "411",
    "440",
    "444",
    "445",
    "448",
    "442",
    "422",
    "432",
    "438",
    "439",
    "446",
    "413",
    "419",
    "423",
    "433",
    "431",
    "458",
    "441",
    "421",
    "434",
    "463",
    "449",
    "451",
    "452",
    "457",
    "425",
    "417",
    "447",
    "416",
    "429",
    "427",
    "436",
    "437",
    "435",
    "462",
    "415",
    "461",
    "464",
    "470",
    "466",
    "460",
    "456",
    "467",
    "468",
    "469",
    "479",
    "450",
    "480",
    "483",
    "443",
    "453",
    "495",
    "497",
    "482",
    *("44C", "493", "44D", "459", "489", "471", "472", "494", "492", "474", "478", "484", "485", "455", "481", "476"),
]
AVR_SIGNATURES = [
    "1E9307",
    "1E930A",
    "1E930F",
    "1E9406",
    "1E940B",
    "1E9514",
    "1E950F",
    "1E9516",
    "1E9609",
    "1E960A",
    "1E9705",
    "1E9703",
    "1E9704",
    *("1E9403", "1E9502", "1E9602", "1E9702", "1E940A", "1E9508", "1E9511", "1E9706", "1E9608", "1E9781"),
    *("1E9316", "1E9415", "1E9308", "1E9404", "1E9405"),
]

CATALOGUE = Catalogue.load()


class Records(unittest.TestCase):
    def test_every_id_is_there_once(self) -> None:
        # those of other makers answer as the part that they copy
        stm32 = [part.ident for part in CATALOGUE.of_dialect("stm32-rom") if "differs" not in part.extra]
        self.assertEqual(sorted(stm32), sorted(int(ident, 16) for ident in STM32_IDS))
        avr = [part.ident for part in CATALOGUE.of_dialect("avr-061") if "differs" not in part.extra]
        self.assertEqual(sorted(avr), sorted(int(ident, 16) for ident in AVR_SIGNATURES))

    def test_parts_of_other_makers_are_found_and_told_apart(self) -> None:
        for name, title, said in (
            ("lgt8f328p", "LGT8F328P", "EEPROM is emulated"), ("gd32f103", "GD32", "answers as"), ("apm32f103", "APM32", "more RAM"),
            ("at32f403", "AT32", "id of 5 bytes"), ("cs32f103", "CS32", "answers as"), ("py32f030", "PY32", "128 bytes"),
            ("ch32f103", "CH32", "own protocol"),
        ):  # fmt: skip
            with self.subTest(name):
                for part in CATALOGUE.find(name).parts:
                    self.assertIn(title, part.title)
                    self.assertIn(said, part.extra["differs"])
        self.assertEqual(CATALOGUE.find("stm32").by_ident(0x410).name, "stm32f10x-medium")  # type: ignore[union-attr]

    def test_four_hundred_parts_and_the_names_that_are_printed_on_them(self) -> None:
        self.assertGreaterEqual(len(CATALOGUE.parts), 400)
        for printed, name in (
            ("CC2652P1FRGZR", "cc2652p"), ("cc2640r2f", "cc2640r2"), ("TM4C123GH6PM", "tm4c123gh6pm"), ("MKL27Z256VLH4", "mkl27z256"),
            ("LPC55S69JBD100", "lpc55s69"), ("MCXN947VDF", "mcxn947"), ("EFM8BB10F8G-A-QFN20", "efm8bb10f8"), ("nRF52840-QIAA", "nrf52840"),
            ("STM32H563ZIT6", "stm32h562-573"), ("STM32U595ZJT6Q", "stm32u59x-5ax"), ("STM32C071RBT6", "stm32c071"), ("GD32VF103CBT6", "gd32vf103"),
            ("AT32F403AVGT7", "at32f403a"), ("MM32F103", "mm32f103"), ("ATmega128A-AU", "atmega128"), ("ATmega324PA-AU", "atmega324pa"),
            ("LPC11U35FHI33", "lpc11u35"), ("LPC2378FBD144", "lpc2378"), ("LPC804M101JDH24", "lpc804"), ("PIC18LF26K80-I/SO", "pic18lf26k80"),
            ("18F14K50", "pic18f14k50"), ("PIC18F8722-I/PT", "pic18f8722"),
        ):  # fmt: skip
            with self.subTest(printed):
                self.assertEqual([part.name for part in CATALOGUE.find(printed).parts], [name])

    def test_supplies_of_parts_that_take_no_5_volts(self) -> None:
        for name in ("pic18f45k20", "pic18f46k20", "pic18lf45k22", "pic18lf46k22", "pic18lf25k80", "pic18lf66k80"):
            self.assertEqual(CATALOGUE.find(name).first.wires.volts_range, (1.8, 3.6), name)
        self.assertEqual(CATALOGUE.find("pic18f45k22").first.wires.volts, 5.0)

    def test_entry_of_single_parts(self) -> None:
        for name, said in (
            ("stm32f407vg", "BOOT1 (PB2) low"), ("stm32l151rb", "BOOT1 (PB2) low"), ("stm32f205rg", "BOOT1 (PB2) low"),
            ("stm32g071rb", "as shipped the chip ignores the pin"), ("lpc1343", "PIO0_3 low"), ("lpc1549", "ISP_0 and ISP_1 low"),
        ):  # fmt: skip
            self.assertIn(said, " ".join(CATALOGUE.find(name).hands.enter), name)
        self.assertEqual(CATALOGUE.find("lpc810").first.wires.boot, "PIO0_1")
        self.assertEqual(CATALOGUE.find("lpc2148").first.baud, 38400)

    def test_buffers_are_clear_of_what_isp_uses(self) -> None:
        for part in CATALOGUE.of_dialect("lpc-isp"):
            ram = part.ram[0]
            offset, block = part.extra["ram_buffer"] - ram.start, part.flash.block or 4096
            if part.extra.get("bank"):
                self.assertEqual(offset, 0x1000)
                continue
            self.assertEqual(
                offset, 0x800 if ram.size >= 4096 and part.name not in ("lpc1111", "lpc1112") else 0x300, part.name
            )
            smallest = 2048 - 288 + 32 if part.name in ("lpc1111", "lpc1112") else ram.size
            self.assertLessEqual(offset + block, smallest - 32, part.name)

    def test_every_record_is_whole(self) -> None:
        for part in CATALOGUE.parts:
            with self.subTest(part.name):
                flash = part.flash
                self.assertEqual(flash.end % flash.layout[-1][1], 0)
                self.assertIn(flash.write_unit, (1, 2, 4, 8, 16, 32, 64, 128, 256, 512, 4096))
                self.assertIn(flash.erased, (0x00, 0xFF))
                for _, size in flash.layout:
                    self.assertGreaterEqual(flash.erase_time(size).longest_s, flash.erase_time(size).typical_s)
                self.assertTrue(part.ram and part.hands.enter and part.hands.leave)
                to_zero = part.name.startswith(("stm32l0", "stm32l1", "stm8", "cy8c")) or part.holds == "RAM"
                self.assertEqual(part.flash.erased == 0, to_zero)
                self.assertIn(part, CATALOGUE.find(part.name).parts)

    def test_layouts(self) -> None:
        layouts = {
            "stm32f103c8": ((64, 1024),),
            "stm32f103ze": ((256, 2048),),
            "stm32f407vg": ((4, 16384), (1, 65536), (7, 131072)),
            "stm32f429zi": ((4, 16384), (1, 65536), (7, 131072)) * 2,
            "stm32f746ng": ((4, 32768), (1, 131072), (3, 262144)),
            "stm32l053r8": ((512, 128),),
            "stm32g071rb": ((64, 2048),),
            "stm32h743zi": ((16, 131072),),
            "atmega328p": ((256, 128),),
            "atmega1284p": ((512, 256),),
        }
        for name, layout in layouts.items():
            with self.subTest(name):
                self.assertEqual(CATALOGUE.find(name).first.flash.layout, layout)

    def test_where_programs_begin_and_end(self) -> None:
        for name, start, end, unit in (
            ("msp430f149", 0x1100, 0x10000, 512), ("msp430f169", 0x1100, 0x10000, 512), ("msp430f249", 0x1100, 0x10000, 512),
            ("msp430f449", 0x1100, 0x10000, 512), ("msp430g2955", 0x2100, 0x10000, 512), ("msp430fr2311", 0xF100, 0x10000, 512),
            ("msp430fr5948", 0x4400, 0x10000, 512), ("msp430fr5958", 0x4400, 0x10000, 512),
            ("msp430fr5968", 0x4400, 0x10000, 512), ("lpc1822", 0x1A000000, 0x1A080000, 65536),
            ("lpc1823", 0x1A000000, 0x1A040000, 65536), ("efm8sb20f64", 0, 0x10000, 1024), ("efm8bb10f2", 0, 0x800, 512),
            ("efm8bb10f4", 0, 0x1000, 512),
        ):  # fmt: skip
            flash = CATALOGUE.find(name).first.flash
            self.assertEqual((flash.start, flash.end, flash.layout[-1][1]), (start, end, unit), name)
        self.assertEqual(sum(ram.size for ram in CATALOGUE.find("stm8s207x8").first.ram), 4096)

    def test_pins(self) -> None:
        for name, tx, rx, boot in (
            ("stm32wba52", "PB12", "PA8", "BOOT0"), ("mcxn947", "P1_9", "P1_8", "P0_6 (ISP)"),
            ("mcxa153", "P0_3", "P0_2", "P3_29 (ISP)"), ("mcxa156", "P0_3", "P0_2", "P0_6 (ISP)"),
            ("mspm0g3507", "PA10", "PA11", "PA18"), ("mspm0l1306", "PA23", "PA22", "PA18"),
        ):  # fmt: skip
            wires = CATALOGUE.find(name).first.wires
            self.assertEqual((wires.tx, wires.rx, wires.boot), (tx, rx, boot), name)
        for name in ("cc1352r", "cc1352p", "cc2652p"):
            self.assertEqual(CATALOGUE.find(name).first.wires.rx, "DIO12")
        numbers = {name: CATALOGUE.find(name).first.ident for name in ("msp430f233", "msp430f235", "msp430f249")}
        self.assertEqual(len(set(numbers.values())), 1, numbers)
        for name in ("msp430g2152", "msp430g2252", "msp430g2211"):  # these have no loader
            self.assertRaises(UnknownChip, CATALOGUE.find, name)


class Names(unittest.TestCase):
    def test_the_family_that_a_search_tells_of_is_found_and_speaks_its_dialect(self) -> None:
        for dialect in dialect_names():
            family = CATALOGUE.family_of(dialect)
            with self.subTest(dialect, family=family):
                spoken = {name for part in CATALOGUE.find(family).parts for name in (part.dialect, *part.also)}
                self.assertIn(dialect, spoken)

    def test_names_people_use(self) -> None:
        cases = {
            "stm32f103c8": ["stm32f10x-medium"],
            "STM32F103C8T6": ["stm32f10x-medium"],
            "stm32f103": ["stm32f10x-low", "stm32f10x-medium", "stm32f10x-high", "stm32f10x-xl"],
            "stm32f103xx": ["stm32f10x-low", "stm32f10x-medium", "stm32f10x-high", "stm32f10x-xl"],
            "STM32F10X_MEDIUM": ["stm32f10x-medium"],
            "ATmega328P-PU": ["atmega328p"],
            "mega328p": ["atmega328p"],
            "atmega328pb": ["atmega328pb"],
            "stm32g0b1re": ["stm32g0bx"],
            "stm32l152rba": ["stm32l1-cat2"],
            "STM32F103 C8T6": ["stm32f10x-medium"],
            "STM32F103\nC8T6": ["stm32f10x-medium"],
            "STM32F103/C8T6": ["stm32f10x-medium"],
        }
        for name, parts in cases.items():
            with self.subTest(name):
                self.assertEqual([part.name for part in CATALOGUE.find(name).parts], parts)

    def test_parts_that_people_look_for_are_there(self) -> None:
        for name in (
            "gd32e230", "gd32e103", "stm32wba65", "cc1354p10", "cc2674r10", "lpc4367", "mcxc244", "samd10d14", "samd11d14",
            "sam3n4", "sam3u4", "sam4sd32",
        ):  # fmt: skip
            with self.subTest(name):
                self.assertTrue(CATALOGUE.find(name).parts)

    def test_families_hold_all_of_their_dialect(self) -> None:
        self.assertEqual(CATALOGUE.find("stm32").parts, CATALOGUE.of_dialect("stm32-rom"))
        self.assertEqual(CATALOGUE.find("avr").parts, CATALOGUE.of_dialect("avr-061"))

    def test_a_family_is_entered_as_most_of_it_is(self) -> None:
        self.assertNotIn("BOOT1", " ".join(CATALOGUE.find("stm32").hands.enter))
        self.assertIn("BOOT1 low", CATALOGUE.find("stm32f103").hands.enter[0])

    def test_the_size_letter_counts(self) -> None:
        for name, kib in (("stm32f103c8", 64), ("stm32f103cb", 128), ("stm32f030f4", 16), ("stm32f429ze", 512)):
            part = CATALOGUE.find(name).first
            self.assertEqual((part.flash.size, part.size_known), (kib * 1024, True))
        self.assertFalse(CATALOGUE.find("stm32f103").first.size_known)

    def test_unknown_names_have_neighbours(self) -> None:
        for name, near in (
            ("atmega329p", "atmega328p"),
            ("stm32f0722", "stm32f07x"),
            ("stm32f10x-med", "stm32f10x-medium"),
        ):
            with self.subTest(name), self.assertRaises(UnknownChip) as caught:
                CATALOGUE.find(name)
            self.assertIn(near, caught.exception.nearest)

    def test_clones_answer_with_another_number(self) -> None:
        self.assertEqual(CATALOGUE.find("atmega328pb").by_ident(0x1E950F), CATALOGUE.find("atmega328pb").first)
        self.assertIsNone(CATALOGUE.find("atmega328p").by_ident(0x1E9406))


class Files(unittest.TestCase):
    def test_row_by_row_is_what_the_whole_file_says(self) -> None:
        files = sorted(Path(catalogue.__file__).parent.glob("*.toml"))
        self.assertGreater(len(files), 6)
        for path in files:
            text = path.read_text("utf-8")
            whole = tomllib.loads(text)
            entries = catalogue._read_family(text)
            self.assertEqual(len(entries), len(whole["part"]), path)
            for entry, row in zip(entries, whole["part"], strict=True):
                with self.subTest(row["name"]):
                    self.assertEqual((entry.name, list(entry.matches)), (row["name"], row["matches"]))
                    self.assertEqual(tomllib.loads(entry.text), row)

    def test_a_family_is_read_by_whoever_asks_for_it(self) -> None:
        catalogue.own_files.cache_clear()
        with patch.object(catalogue, "_text", wraps=catalogue._text) as read:
            Catalogue().of_dialect("esp-rom")
        self.assertEqual([call.args[0].stem for call in read.call_args_list], ["esp"])


class EraseUnits(unittest.TestCase):
    def test_units_touched(self) -> None:
        flash = CATALOGUE.find("stm32f407vg").first.flash
        self.assertEqual(flash.units_touched(0x08000000, 1), [EraseUnit(0, 0x08000000, 16384)])
        across = flash.units_touched(0x0800FFFF, 2)
        self.assertEqual([(unit.number, unit.size) for unit in across], [(3, 16384), (4, 65536)])
        self.assertEqual(len(flash.units_touched(0x08000000, 1 << 20)), 12)
        self.assertEqual(flash.units_touched(0x080FFFFF, 1)[0].number, 11)

    def test_resizing(self) -> None:
        flash = CATALOGUE.find("stm32f42x-43x").first.flash
        self.assertEqual(flash.resized(1 << 20).layout, ((4, 16384), (1, 65536), (7, 131072)))
        self.assertEqual(flash.resized(1536 * 1024).layout[-1], (3, 131072))
        with self.assertRaises(ValueError):
            flash.resized(flash.size + 1)


if __name__ == "__main__":
    unittest.main()
