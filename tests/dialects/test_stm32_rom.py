"""`stm32-rom`: exchanges as ST AN3155 has them, byte for byte, and behaviour against the strict chips."""

from __future__ import annotations

import unittest
from typing import Any
from unittest.mock import patch

from greenstep.bench.boards import BOARDS
from greenstep.bench.families.stm32 import SimulatedStm32
from greenstep.bench.faults import Faults
from greenstep.bench.trial import prepare, run, sample_for
from greenstep.bench.virtual_link import VirtualLink
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.chips.part import EraseUnit, Part
from greenstep.core.dialects.errors import ChipRefusal, RefusalKind, Silence, Unexpected
from greenstep.core.dialects.results import WriteBlock
from greenstep.core.dialects.stm32_rom import Stm32Rom, word_crc
from greenstep.core.errors import RefusedFault
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.hookup.drive import Driver
from greenstep.core.image import Image, Piece
from greenstep.core.link import LineSettings
from greenstep.core.plan.layout import make_plan
from greenstep.core.plan.write_options import WriteOptions

from ..scripted import ScriptedLink

GET = ("00 FF", "79 0B 31 00 01 02 11 21 31 44 63 73 82 92 79")
GET_V2 = ("00 FF", "79 0B 22 00 01 02 11 21 31 43 63 73 82 92 79")
ID_410 = ("02 FD", "79 01 04 10 79")
F103 = Catalogue.load().find("stm32f103c8").first
L053 = Catalogue.load().find("stm32l053r8").first
F407 = Catalogue.load().find("stm32f407vg").first


class Exchanges(unittest.TestCase):
    """What goes over the line."""

    def talk(self, *script: tuple[str, str]) -> tuple[Stm32Rom, ScriptedLink]:
        link = ScriptedLink(*script)
        self.addCleanup(lambda: self.assertTrue(link.finished(), "the script was not played to its end"))
        return Stm32Rom(link), link

    def test_sync_cases(self) -> None:
        for reply, answer in (("79", "79"), ("1F", "1F, synchronised before"), ("", None), ("41", None)):
            with self.subTest(reply):
                self.assertEqual(self.talk(("7F", reply))[0].ask(0.1), answer)

    def test_an_application_that_says_y_is_no_answer(self) -> None:
        self.assertIsNone(self.talk(("7F", "79 65 73 0D 0A"))[0].ask(0.1))

    def test_identify_asks_the_id_twice(self) -> None:
        dialect, _ = self.talk(GET, ID_410, ID_410)
        identity = dialect.identify()
        self.assertEqual((identity.ident, identity.said), (0x410, "id 410"))
        self.assertEqual(dict(identity.details)["loader"], "3.1")

    def test_a_damaged_id_is_asked_a_third_time(self) -> None:
        dialect, _ = self.talk(GET, ("02 FD", "79 01 04 14 79"), ID_410, ID_410)
        self.assertEqual(dialect.identify().ident, 0x410)

    def test_read(self) -> None:
        dialect, _ = self.talk(("11 EE", "79"), ("08 00 01 00 09", "79"), ("03 FC", "79 DE AD BE EF"))
        self.assertEqual(dialect.read(F103.flash, 0x08000100, 4), bytes.fromhex("DEADBEEF"))

    def test_write_checksums_over_the_count_too(self) -> None:
        dialect, _ = self.talk(("31 CE", "79"), ("08 00 00 00 08", "79"), ("03 01 02 03 04 07", "79"))
        blocks = list(dialect.write(F103.flash, [WriteBlock(0x08000000, bytes([1, 2, 3, 4]))]))
        self.assertEqual([block.address for block in blocks], [0x08000000])

    def test_write_is_repeated_after_a_nack_to_the_data(self) -> None:
        one = (("31 CE", "79"), ("08 00 00 00 08", "79"))
        dialect, _ = self.talk(*one, ("03 01 02 03 04 07", "1F"), ("7F", "1F"), *one, ("03 01 02 03 04 07", "79"))
        self.assertEqual(len(list(dialect.write(F103.flash, [WriteBlock(0x08000000, bytes([1, 2, 3, 4]))]))), 1)
        self.assertEqual(dialect.retries, 1)

    def test_after_silence_to_the_data_what_the_chip_holds_decides(self) -> None:
        write = (("31 CE", "79"), ("08 00 00 00 08", "79"))
        silent = (*write, ("03 01 02 03 04 07", ""), ("7F", "1F"))
        look = (("11 EE", "79"), ("08 00 00 00 08", "79"))
        block = WriteBlock(0x08000000, bytes([1, 2, 3, 4]))
        dialect, _ = self.talk(*silent, *look, ("03 FC", "79 01 02 03 04"))
        self.assertEqual(list(dialect.write(F103.flash, [block])), [block])
        dialect, _ = self.talk(*silent, *look, ("03 FC", "79 FF FF FF FF"), *write, ("03 01 02 03 04 07", "79"))
        self.assertEqual(list(dialect.write(F103.flash, [block])), [block])
        dialect, _ = self.talk(*silent, *look, ("03 FC", "79 01 02 FF FF"))
        with self.assertRaises(Silence):
            list(dialect.write(F103.flash, [block]))

    def test_erase_by_page(self) -> None:
        dialect, _ = self.talk(GET_V2, ID_410, ID_410, ("43 BC", "79"), ("02 00 01 02 01", "79"))
        dialect.identify()
        units = [EraseUnit(n, 0x08000000 + n * 1024, 1024) for n in range(3)]
        self.assertEqual(list(dialect.erase(F103.flash, units)), [3])

    def test_erase_by_extended_page(self) -> None:
        dialect, _ = self.talk(GET, ID_410, ID_410, ("44 BB", "79"), ("00 01 01 00 01 01 00", "79"))
        dialect.identify()
        units = [EraseUnit(256, 0x08008000, 128), EraseUnit(257, 0x08008080, 128)]
        self.assertEqual(list(dialect.erase(L053.flash, units)), [2])

    def test_sectors_are_erased_about_a_second_at_a_time(self) -> None:
        dialect, _ = self.talk(
            GET, ID_410, ID_410,
            ("44 BB", "79"), ("00 03 00 00 00 01 00 02 00 03 03", "79"),
            ("44 BB", "79"), ("00 00 00 04 04", "79"),
            ("44 BB", "79"), ("00 00 00 05 05", "79"),
        )  # fmt: skip
        dialect.identify()
        units = F407.flash.units_touched(0x08000000, 0x40000)
        self.assertEqual(list(dialect.erase(F407.flash, units)), [4, 5, 6])

    def test_mass_erase(self) -> None:
        for get, frames in (
            (GET, (("44 BB", "79"), ("FF FF 00", "79"))),
            (GET_V2, (("43 BC", "79"), ("FF 00", "79"))),
        ):
            dialect, _ = self.talk(get, ID_410, ID_410, *frames)
            dialect.identify()
            dialect.erase_all(F103.flash)

    def test_go(self) -> None:
        dialect, _ = self.talk(("21 DE", "79"), ("08 00 40 00 48", "79"))
        self.assertEqual(dialect.start(0x08004000), "go to 08004000 acknowledged")

    def test_protection(self) -> None:
        self.talk(("82 7D", "79 79"))[0].readout_protect()
        self.talk(("92 6D", "79 79"))[0].readout_unprotect(F103.flash)
        self.talk(("73 8C", "79 79"))[0].lift_write_protection()
        units = [EraseUnit(0, 0, 0), EraseUnit(1, 0, 0)]
        self.talk(("63 9C", "79"), ("01 00 01 00", "79"))[0].write_protect(units)
        self.assertEqual(self.talk(("01 FE", "79 22 00 00 79"))[0].protection_bytes(), bytes([0x22, 0, 0]))

    def test_locked_is_a_refused_command_heard_twice(self) -> None:
        dialect, _ = self.talk(("11 EE", "1F"), ("7F", "1F"), ("11 EE", "1F"))
        with self.assertRaises(ChipRefusal) as caught:
            dialect.read(F103.flash, 0x08000000, 4)
        self.assertEqual((caught.exception.kind, caught.exception.command), (RefusalKind.LOCKED, "read memory"))

    def test_get_is_never_taken_for_refused_at_once(self) -> None:
        """Answers that came too late leave a chip out of step: it says NACK to what it must always answer."""
        refused = (GET[0], "1F"), ("7F", "1F")
        dialect, _ = self.talk(*refused, *refused, GET, ID_410, ID_410)
        self.assertEqual(dialect.identify().ident, 0x410)
        dialect, _ = self.talk(*refused, *refused, (GET[0], "1F"))
        with self.assertRaises(ChipRefusal):
            dialect.identify()

    def test_lost_complement_is_found_by_synchronising(self) -> None:
        dialect, _ = self.talk(
            ("11 EE", ""), ("7F", "1F"), ("11 EE", "79"), ("08 00 00 00 08", "79"), ("00 FF", "79 5A")
        )
        self.assertEqual(dialect.read(F103.flash, 0x08000000, 1), b"\x5a")

    def test_a_lost_answer_anywhere_in_a_write_is_made_good(self) -> None:
        """That of an address leaves the chip waiting for data whose size it took from a synchronisation byte."""
        image = sample_for("stm32f072", 600)
        for place in range(49, 59):  # the answer to the erase, and three to each of three blocks
            with self.subTest(place=place):
                trial = run("stm32f072", {"flash": image}, faults=(f"drop-to-host={place}",))
                self.assertEqual(trial.end.exit_code, 0)
                self.assertTrue(trial.holds(image))

    def test_text_in_place_of_an_answer(self) -> None:
        text = b"brood probe 1.6 ready".hex()
        dialect, _ = self.talk(("31 CE", "79"), ("08 00 00 00 08", "79"), ("00 01 01", text))
        with self.assertRaises(Unexpected) as caught:
            list(dialect.write(F103.flash, [WriteBlock(0x08000000, b"\x01")]))
        self.assertIn(b"brood probe", caught.exception.heard)

    def test_size_is_read_as_whole_words_first(self) -> None:
        dialect, _ = self.talk(
            ("11 EE", "79"), ("1F FF 7A 20 BA", "79"), ("03 FC", "79 FF FF 00 02"),
            ("11 EE", "79"), ("1F FF 7A 10 8A", "79"), ("0B F4", "79 00 01 02 03 04 05 06 07 08 09 0A 0B"),
        )  # fmt: skip
        examination = dialect.examine(F407)
        self.assertEqual(examination.part.flash.size, 512 * 1024)
        self.assertEqual(examination.unique_id, "000102030405060708090A0B")

    def test_a_register_that_is_not_there_leaves_the_declared_size(self) -> None:
        no = (("11 EE", "79"), ("1F FF F7 E0 F7", "1F"))
        uid = (("11 EE", "79"), ("1F FF F7 E8 FF", "1F"))
        dialect, _ = self.talk(*no, *no, *no, *no, *uid, *uid, *uid, *uid)
        examination = dialect.examine(F103)
        self.assertEqual((examination.part.flash.size, examination.locked), (64 * 1024, ""))

    def test_checksum_of_the_chip(self) -> None:
        data = bytes(range(8))
        crc = word_crc(data)
        answer = crc.to_bytes(4, "big")
        check = answer[0] ^ answer[1] ^ answer[2] ^ answer[3]
        frames = (
            ("A1 5E", "79"), ("08 00 00 00 08", "79"), ("00 00 00 02 02", "79"),
            ("04 C1 1D B7 6F", "79"), ("FF FF FF FF 00", "79" + answer.hex() + f"{check:02x}"),
        )  # fmt: skip
        self.assertTrue(self.talk(*frames)[0].checksum_equals(F103.flash, 0x08000000, data))
        self.assertFalse(self.talk(("A1 5E", "1F"), ("7F", "1F"), ("A1 5E", "1F"), ("7F", "1F"))[0].checksum_equals(
            F103.flash, 0x08000000, data))  # fmt: skip

    def test_word_crc(self) -> None:
        # the value ST gives for the one word 00000000 after a reset of the unit, and the bit-by-bit definition
        self.assertEqual(word_crc(bytes(4)), 0xC704DD7B)
        crc = 0xFFFFFFFF
        data = bytes(range(100, 140))
        for at in range(0, len(data), 4):
            crc ^= int.from_bytes(data[at : at + 4], "little")
            for _ in range(32):
                crc = (crc << 1 ^ (0x04C11DB7 if crc >> 31 else 0)) & 0xFFFFFFFF
        self.assertEqual(word_crc(data), crc)


class AgainstChips(unittest.TestCase):
    """Whole conversations on the virtual clock."""

    def bootloader(self, board: str, *faults: str) -> tuple[Stm32Rom, SimulatedStm32]:
        line = BOARDS[board].build(Faults.parse(faults))
        hookup = named_hookup(line.circuit.hookup, "high")
        link = VirtualLink(line, LineSettings(115200, Stm32Rom.frame), hookup.idle_lines)
        assert hookup.enter is not None
        Driver(link, hookup).run(hookup.enter)
        chip = line.chip
        assert isinstance(chip, SimulatedStm32)
        return Stm32Rom(link), chip

    def synced(self, board: str, *faults: str) -> tuple[Stm32Rom, SimulatedStm32]:
        dialect, chip = self.bootloader(board, *faults)
        self.assertEqual(dialect.ask(0.2), "79")
        dialect.identify()
        return dialect, chip

    def test_asked_again_after_it_was_synced(self) -> None:
        dialect, _ = self.synced("stm32f103")
        self.assertIsNone(dialect.ask(0.2))
        self.assertEqual(dialect.ask(0.2), "1F, synchronised before")
        self.assertEqual(dialect.identify().ident, 0x410)

    def test_every_half_frame_is_recovered(self) -> None:
        for half in ("11", "11 EE 08", "11 EE 08 00 00", "31 CE 08 00 00 00", "00 FF 00"):
            with self.subTest(half):
                dialect, chip = self.synced("stm32f072")
                dialect.link.write(bytes.fromhex(half)[:1])
                for byte in bytes.fromhex(half)[1:]:
                    dialect.link.sleep(0.005)
                    dialect.link.write(bytes([byte]))
                dialect.link.sleep(0.05)
                dialect.resync()
                self.assertEqual(dialect.identify().ident, chip.kind.ident)

    def test_lock_refuses_and_unlock_erases(self) -> None:
        dialect, chip = self.synced("stm32f072")
        before = bytes(chip.flash)
        dialect.readout_protect()
        self.assertEqual(dialect.ask(0.5), "79")
        part = Catalogue.load().find("stm32f072").first
        dialect.identify()
        self.assertIn("1F after the command of 'read memory'", dialect.examine(part).locked)
        self.assertEqual(bytes(chip.flash), before)
        dialect.readout_unprotect(part.flash)
        self.assertEqual(dialect.ask(0.5), "79")
        self.assertEqual(set(chip.flash), {0xFF})
        self.assertEqual(dialect.read(part.flash, 0x08000000, 256), b"\xff" * 256)

    def test_write_protection(self) -> None:
        dialect, chip = self.synced("stm32f103")
        dialect.write_protect([EraseUnit(4, 0x08001000, 1024)])
        dialect.ask(0.5)
        before = bytes(chip.flash)
        list(dialect.write(F103.flash, [WriteBlock(0x08001000, bytes(4))]))  # acknowledged, without effect
        self.assertEqual(bytes(chip.flash), before)
        dialect.lift_write_protection()
        self.assertEqual((dialect.ask(0.5), chip.protected), ("79", set()))

    def test_write_protected_units_are_named(self) -> None:
        runner, trial = prepare(
            "stm32f103", {"flash": sample_for("stm32f103", 6000)}, faults=("write-protected=2", "write-protected=3")
        )
        before = bytes(trial.line.chip.flash[0x800:0x1000])
        trial.events.extend(runner.run())
        finding = trial.findings[0]
        self.assertEqual((trial.end.exit_code, finding.key), (7, "write-protected"))
        self.assertIn("2 units are write-protected: 08000800-08000BFF, 08000C00-08000FFF", finding.cause)
        self.assertIn("greenstep unlock --writes", finding.attempts[0])
        self.assertEqual(trial.line.chip.flash[0x800:0x1000], before)
        runner, trial = prepare(
            "stm32f103", purpose="unlock", options=WriteOptions(writes_only=True), faults=("write-protected=2",)
        )
        trial.events.extend(runner.run())
        assert isinstance(trial.line.chip, SimulatedStm32)
        self.assertEqual((trial.end.exit_code, trial.line.chip.protected), (0, set()))
        self.assertIn("it answered again", trial.step("unlock").evidence)

    def test_ids_sizes_and_banks_of_single_parts(self) -> None:
        for board, unique, size in (
            ("stm32l053", "303132333435363738393A3B", 65536), ("stm32l152", "303132333435363738393A3B", 393216),
            ("stm32g0b1", "303132333435363738393A3B", 524288),
        ):  # fmt: skip
            with self.subTest(board):
                dialect, _ = self.synced(board)
                found = dialect.examine(Catalogue.load().by_ident("stm32-rom", dialect.identify().ident))
                self.assertEqual((found.unique_id, found.part.flash.size), (unique, size))
        flash = found.part.flash
        self.assertEqual([u.number for u in flash.units_touched(0x0803F800, 0x1000)], [127, 256])

    def sized(self, name: str, *registers: tuple[int, str]) -> Part:
        """The part as its registers, (address, bytes), make it."""
        known = {address: bytes.fromhex(data) for address, data in registers}
        dialect = Stm32Rom(ScriptedLink())
        with patch.object(dialect, "_register", lambda address, size: known.get(address)):
            part = Catalogue.load().find(name).first
            size = dialect._flash_size(part)
            assert size is not None
            return part.with_memory(dialect._layout(part, size))

    def test_sizes_that_are_told_in_other_ways(self) -> None:
        self.assertEqual(self.sized("stm32l1-cat2", (0x1FF8004C, "80 FF")).flash.size, 0x80 * 1024)
        for code, kib in (("00 00", 384), ("01 00", 256)):
            self.assertEqual(self.sized("stm32l1-cat4", (0x1FF800CC, code)).flash.size, kib * 1024)

    def test_second_banks(self) -> None:
        half = self.sized("stm32h74x-75x", (0x1FF1E880, "00 04")).flash  # 1 MiB: the second half begins at 08100000
        units = half.units_touched(0x08100000, 1)
        self.assertEqual((units[0].number, half.end, half.gap), (8, 0x08180000, (0x08080000, 0x80000)))
        part = Catalogue.load().find("stm32h74x-75x").first.with_memory(half)
        image = Image("gap", (Piece(0x08080000, bytes(64)),))
        with self.assertRaises(RefusedFault) as caught:
            make_plan(part, Stm32Rom, {"flash": image}, WriteOptions(even_if=frozenset({"vectors"})))
        self.assertEqual(caught.exception.findings[0].key, "does-not-fit")
        for dual, number in (("00 00 20 00", 256), ("00 00 00 00", 128)):
            flash = self.sized("stm32l47x", (0x1FFF75E0, "00 02"), (0x1FFF7800, dual)).flash
            self.assertEqual(flash.units_touched(0x08040000, 1)[0].number, number)

    def test_an_unlock_says_what_else_it_erases(self) -> None:
        for board, said in (("stm32l053", "flash and EEPROM are erased"), ("stm32f072", "the flash is erased")):
            trial = run(board, purpose="unlock", faults=("locked",))
            self.assertIn(said, trial.step("unlock").evidence)

    def test_a_second_bank_is_erased_by_its_own_numbers(self) -> None:
        image = Image("upper", (Piece(0x08040400, bytes(range(1, 251)) * 20),))
        runner, trial = prepare("stm32g0b1", {"flash": image}, start=False)
        trial.line.chip.flash[0x3F000:0x44000] = b"\x55" * 0x5000
        trial.events.extend(runner.run())
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        flash = trial.line.chip.flash
        self.assertTrue(trial.holds(image))
        self.assertEqual((set(flash[0x3F000:0x40000]), set(flash[0x42000:0x44000])), ({0x55}, {0x55}))

    def test_pages_of_a_size_no_byte_counts_are_not_erased_by_the_older_erase(self) -> None:
        dialect, chip = self.synced("stm32f103")
        xl = Catalogue.load().find("stm32f103xg").first.flash
        with self.assertRaisesRegex(ChipRefusal, "counted up to 255"):
            list(dialect.erase(xl, xl.units_touched(0x08090000, 1)))
        self.assertEqual(chip.violations, [])

    def test_erase_of_everything_by_pages_where_the_rom_refuses_it(self) -> None:
        for options in (
            {"purpose": "erase"},
            {"images": {"flash": sample_for("stm32l053", 900)}, "options": WriteOptions(erase_all=True)},
        ):
            trial = run("stm32l053", start=False, **options)
            self.assertEqual(trial.end.exit_code, 0, trial.findings)
            self.assertEqual(set(trial.line.chip.flash[1024:]), {0})

    def test_a_boot_pin_that_counts_for_nothing_is_told_before_the_first_write(self) -> None:
        runner, trial = prepare(
            "stm32g071", {"flash": sample_for("stm32g071", 900)}, faults=("boot-ignored",), start=False
        )
        trial.line.chip.flash[:] = b"\xff" * len(trial.line.chip.flash)
        trial.events.extend(runner.run())
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        kinds = [getattr(event, "text", "") or getattr(event, "step", "") for event in trial.events]
        told = next(n for n, text in enumerate(kinds) if "ignores its boot pin" in text)
        self.assertLess(told, kinds.index("erase"))
        self.assertEqual(run("stm32g071", purpose="greet", faults=("boot-ignored",)).end.exit_code, 4)

    def test_mass_erase_of_each_kind(self) -> None:
        for board in ("stm32f103", "stm32f407", "stm32l053"):
            with self.subTest(board):
                dialect, chip = self.synced(board)
                dialect.erase_all(Catalogue.load().find(board).first.flash)
                self.assertEqual(set(chip.flash), {chip.kind.erased})

    def test_slow_erase_is_waited_for(self) -> None:
        dialect, chip = self.synced("stm32f407", "slow-erase=4")
        flash = Catalogue.load().find("stm32f407").first.flash
        units = flash.units_touched(0x08000000, 0x40000)
        self.assertEqual(list(dialect.erase(flash, units))[-1], 6)
        self.assertEqual(set(chip.flash[:0x40000]), {0xFF})

    def test_chip_checksum_agrees_with_ours(self) -> None:
        dialect, chip = self.synced("stm32c031")
        self.assertTrue(dialect.can_checksum())
        flash = Catalogue.load().find("stm32c031").first.flash
        content = bytes(chip.flash[:4096])
        self.assertTrue(dialect.checksum_equals(flash, 0x08000000, content))
        self.assertFalse(dialect.checksum_equals(flash, 0x08000000, content[:-1] + b"\x00"))
        self.assertTrue(dialect.can_checksum())

    def test_nothing_we_send_breaks_the_document(self) -> None:
        for board in ("stm32f072", "stm32f103", "stm32f407", "stm32l053", "stm32g071", "stm32c031"):
            with self.subTest(board):
                dialect, chip = self.synced(board)
                part = dialect.examine(Catalogue.load().find(board).first).part
                image = sample_for(board, 3000)
                units = part.flash.units_touched(0x08000000, 3000)
                self.assertEqual(list(dialect.erase(part.flash, units))[-1], len(units))
                data = image.pieces[0].data
                blocks = [WriteBlock(0x08000000 + at, data[at : at + 256]) for at in range(0, 3000, 256)]
                self.write_all(dialect, part, blocks)
                self.assertEqual(bytes(chip.flash[:3000]), data)
                self.assertEqual(chip.violations, [])

    def write_all(self, dialect: Stm32Rom, part: Any, blocks: list[WriteBlock]) -> None:
        self.assertEqual(len(list(dialect.write(part.flash, blocks))), len(blocks))


class BadLine(unittest.TestCase):
    def test_a_block_that_is_damaged_in_both_readings_is_read_once_more(self) -> None:
        faults = tuple(f"flip-to-host={71_000 + 4_600 * number}:21" for number in range(5))
        trial = run("stm32f103", purpose="backup", faults=faults)
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        self.assertRegex(trial.step("read").evidence, "65,536 bytes, read in two ways and equal")


class Layouts(unittest.TestCase):
    """Of chips whose options or size say how large their erase units are."""

    def examined(self, chip: str, registers: dict[int, int], size_kib: int, **settings: Any) -> tuple[Stm32Rom, Part]:
        part = Catalogue.load().find(chip).first
        dialect = Stm32Rom(ScriptedLink(), settings)
        known = {part.extra["size_registers"][0]: size_kib, **registers}

        def register(address: int, size: int) -> bytes | None:
            return known[address].to_bytes(12, "little")[:size] if address in known else None

        with patch.object(dialect, "_register", register):
            return dialect, dialect.examine(part).part

    def test_a_flash_of_two_banks_has_smaller_sectors(self) -> None:
        for kib, clear, layout, second in (
            (2048, False, ((4, 32768), (1, 131072), (7, 262144)), 8),
            (2048, True, ((4, 16384), (1, 65536), (7, 131072)) * 2, 18), (1024, True, ((4, 16384), (1, 65536), (3, 131072)) * 2, 18),
        ):  # fmt: skip
            with self.subTest(kib, clear=clear):
                _, part = self.examined("stm32f76x-77x", {0x1FFF0008: 0xFFFF & ~(clear << 13)}, kib)
                self.assertEqual((part.flash.layout, part.flash.size), (layout, kib * 1024))
                middle = part.flash.units_touched(part.flash.start + 0x40000 + (kib * 512 if clear else 0), 1)[0]
                self.assertEqual(middle.number, second if clear else 5)
        _, part = self.examined("stm32f76x-77x", {}, 2048)  # the option cannot be read
        self.assertEqual(len(part.flash.layout), 3)

    def test_pages_of_one_bank_are_larger_and_those_of_a_second_counted_apart(self) -> None:
        for kib, options, unit, last in (
            (512, 1 << 22, 2048, 255), (512, 0, 4096, 127), (256, 1 << 22 | 1 << 21, 2048, 191), (256, 1 << 22, 2048, 127),
        ):  # fmt: skip
            with self.subTest(kib, options=options):
                _, part = self.examined("stm32l552-562", {0x40022040: options}, kib)
                units = part.flash.units_touched(part.flash.end - 1, 1)
                self.assertEqual((units[0].size, units[0].number), (unit, last))

    def test_units_that_nothing_tells_are_not_erased(self) -> None:
        for chip, kib, unit in (("at32f435", 4032, 4096), ("at32f435", 1024, 2048), ("at32f413", 128, 1024),
                                ("at32f413", 256, 2048), ("at32f435", 448, 0), ("at32f423", 256, 0)):  # fmt: skip
            with self.subTest(chip, kib=kib):
                dialect, part = self.examined(chip, {}, kib)
                self.assertEqual(bool(dialect.why_not_writable(part.flash)), not unit)
                if unit:
                    self.assertEqual({size for _, size in part.flash.layout}, {unit})
        dialect, part = self.examined("at32f423", {}, 256, unit=1024)
        self.assertEqual((dialect.why_not_writable(part.flash), part.flash.layout), ("", ((256, 1024),)))


if __name__ == "__main__":
    unittest.main()
