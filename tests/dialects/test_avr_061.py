"""`avr-061`: exchanges as Atmel AVR061 has them, and behaviour against the strict boards."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

from greenstep.bench.avr_loader import loader_code
from greenstep.bench.boards import BOARDS
from greenstep.bench.families.avr import KINDS, SimulatedAvr
from greenstep.bench.families.avr_109 import SimulatedAvr109
from greenstep.bench.faults import Faults
from greenstep.bench.trial import Trial, prepare, sample_for
from greenstep.bench.virtual_link import VirtualLink
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.avr_061 import Avr061
from greenstep.core.dialects.errors import ChipRefusal, Silence, Unexpected
from greenstep.core.dialects.results import WriteBlock
from greenstep.core.events import Noted
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.hookup.drive import Driver
from greenstep.core.image import Image, Piece
from greenstep.core.link import LineSettings
from greenstep.core.plan.write_options import WriteOptions

from ..scripted import ScriptedLink

AVR_KIND = KINDS["atmega1284p"]
M328P = Catalogue.load().find("atmega328p").first
IDENTIFY = (
    ("41 81 20", "14 01 10"), ("41 82 20", "14 07 10"), ("50 20", "14 10"),
    ("75 20", "14 1E 95 0F 10"), ("75 20", "14 1E 95 0F 10"),
)  # fmt: skip


class Exchanges(unittest.TestCase):
    def talk(self, *script: tuple[str, str]) -> Avr061:
        link = ScriptedLink(*script)
        self.addCleanup(lambda: self.assertTrue(link.finished(), "the script was not played to its end"))
        return Avr061(link)

    def test_sync(self) -> None:
        cases = {"14 10": "14 10", "": None, "14": None, "41 14 10": "14 10", "14 10 14 10": "14 10", "30 20": None}
        for reply, answer in cases.items():
            with self.subTest(reply):
                once_more = [("30 20", "14 10")] if answer else []
                self.assertEqual(self.talk(("30 20", reply), *once_more).ask(0.1), answer)
        for second in ("15", "", "14 10 14"):
            with self.subTest(second):  # out of step over what came while it was starting
                self.assertIsNone(self.talk(("30 20", "14 10"), ("30 20", second)).ask(0.1))

    def test_identify(self) -> None:
        identity = self.talk(*IDENTIFY).identify()
        self.assertEqual((identity.ident, identity.said), (0x1E950F, "signature 1E 95 0F"))
        self.assertEqual(dict(identity.details)["loader"], "1.7")

    def test_a_loader_without_a_version(self) -> None:
        for answer in ("", "14 12"):
            script = (("41 81 20", answer), ("30 20", "14 10"), *IDENTIFY[2:])
            self.assertEqual(self.talk(*script).identify().details, ())

    def test_address_in_words_and_page_in_one_go(self) -> None:
        page = bytes(range(128))
        sent = "55 80 01 20 64 00 80 46" + page.hex() + "20"
        list(self.talk((sent, "14 10 14 10")).write(M328P.flash, [WriteBlock(0x300, page)]))

    def test_read(self) -> None:
        dialect = self.talk(("55 00 01 20 74 00 04 46 20", "14 10 14 DE AD BE EF 10"))
        self.assertEqual(dialect.read(M328P.flash, 0x200, 4), bytes.fromhex("DEADBEEF"))

    def test_odd_addresses_are_read_from_the_word(self) -> None:
        dialect = self.talk(("55 00 00 20 74 00 04 46 20", "14 10 14 00 01 02 03 10"))
        self.assertEqual(dialect.read(M328P.flash, 1, 3), bytes([1, 2, 3]))

    def test_out_of_sync_is_synchronised_and_repeated(self) -> None:
        read = ("55 00 00 20 74 00 01 46 20", "15")
        apart = (("55 00 00 20", "14 10"), ("74 00 01 46 20", "14 5A 10"))
        dialect = self.talk(read, ("30 20", "14 10"), *apart, *apart)
        self.assertEqual([dialect.read(M328P.flash, 0, 1) for _ in range(2)], [b"\x5a"] * 2)

    def test_failed_and_unknown_are_refusals(self) -> None:
        for answer in ("14 11", "14 12"):
            with self.subTest(answer), self.assertRaises(ChipRefusal):
                self.talk(("75 20", answer), ("30 20", "14 10"), ("75 20", answer))._signature()

    def test_silence_ends_after_three_tries(self) -> None:
        asks = [("30 20", "14 10")]
        dialect = self.talk(("75 20", ""), *asks, ("75 20", "14"), *asks, ("75 20", ""))
        with self.assertRaises(Silence):
            dialect._signature()

    def test_text_in_place_of_a_reply(self) -> None:
        text = b"hive scale 2.3".hex()
        dialect = self.talk(("51 20", text))
        with self.assertRaises(Unexpected):
            dialect.start(0)

    def test_leave(self) -> None:
        self.assertEqual(self.talk(("51 20", "14 10")).start(0), "leave acknowledged")


class AgainstBoards(unittest.TestCase):
    def synced(self, board: str) -> tuple[Avr061, SimulatedAvr]:
        line = BOARDS[board].build(Faults())
        hookup = named_hookup("cap-dtr", "")
        link = VirtualLink(line, LineSettings(BOARDS[board].baud), hookup.idle_lines)
        assert hookup.enter is not None
        Driver(link, hookup).run(hookup.enter)
        dialect = Avr061(link)
        link.sleep(KINDS[BOARDS[board].chip].led_s + 0.02)
        self.assertEqual(dialect.ask(0.2), "14 10")
        dialect.identify()
        chip = line.chip
        assert isinstance(chip, SimulatedAvr)
        return dialect, chip

    def answers_at(self, pace_s: float) -> list[str | None]:
        """What a loader that flashes an LED first says to four askings after reset, and then to the signature."""
        line = BOARDS["atmega1284p"].build(Faults())
        hookup = named_hookup("cap-dtr", "")
        link = VirtualLink(line, LineSettings(115200), hookup.idle_lines)
        assert hookup.enter is not None
        Driver(link, hookup).run(hookup.enter)
        link.sleep(Avr061.spec.asking.attempts[0].settle_s)
        dialect = Avr061(link)
        return [dialect.ask(pace_s) for _ in range(4)]

    def test_hasty_asking_loses_a_loader_that_flashes_first(self) -> None:
        self.assertEqual(self.answers_at(0.08), [None] * 4)

    def test_it_is_greeted_however_late_it_starts(self) -> None:
        for board in ("atmega1284p", "atmega328p"):
            for late_ms in range(0, 800, 26):
                runner, trial = prepare(board, purpose="greet")
                chip = trial.line.chip
                assert isinstance(chip, SimulatedAvr)
                chip.kind = replace(chip.kind, led_s=late_ms / 1000, listens_s=1.0, wrong_end_restarts=True)
                trial.events.extend(runner.run())
                self.assertEqual(trial.end.exit_code, 0, (board, late_ms, trial.findings))

    def test_a_loader_that_takes_two_seconds_is_found(self) -> None:
        slow = replace(AVR_KIND, led_s=1.7, listens_s=5.0)
        runner, trial = prepare("atmega1284p", {}, purpose="greet")
        trial.line.chip.kind = slow  # type: ignore[attr-defined]
        trial.events.extend(runner.run())
        self.assertEqual(trial.end.exit_code, 0, trial.findings)

    def test_the_dialects_own_pace_does_not(self) -> None:
        self.assertEqual(self.answers_at(Avr061.spec.asking.wait_s), ["14 10"] * 4)

    def test_above_64_kib(self) -> None:
        dialect, chip = self.synced("atmega1284p")
        flash = Catalogue.load().find("atmega1284p").first.flash
        page = bytes(range(256))
        list(dialect.write(flash, [WriteBlock(0x1F000, page)]))
        self.assertEqual(bytes(chip.flash[0x1F000:0x1F100]), page)
        self.assertEqual(dialect.read(flash, 0x1F000, 256), page)

    def eeprom_round(self, board: str, content: bytes, address: int, data: bytes) -> tuple[bytes, bytes]:
        """The EEPROM afterwards, and what reading back says."""
        dialect, chip = self.synced(board)
        chip.eeprom[: len(content)] = content
        memory = Catalogue.load().find(BOARDS[board].chip).first.memory("eeprom")
        list(dialect.write(memory, [WriteBlock(address, data)]))
        return bytes(chip.eeprom), dialect.read(memory, address, len(data))

    def test_eeprom_counted_in_words_and_in_bytes(self) -> None:
        old = bytes((n * 37 + 11) & 0xFF for n in range(200))
        for board in ("atmega328p", "atmega168"):
            for address in (0, 64, 70, 65):
                with self.subTest(board, address=address):
                    content, back = self.eeprom_round(board, old, address, b"settings")
                    expected = old[:address] + b"settings" + old[address + 8 :]
                    self.assertEqual(content[:200], expected)
                    self.assertEqual(back, b"settings")

    def test_a_page_in_the_bootloader_fails(self) -> None:
        dialect, chip = self.synced("atmega328p")
        with self.assertRaises(ChipRefusal):
            list(dialect.write(M328P.flash, [WriteBlock(0x7E00, bytes(128))]))
        self.assertEqual(len(chip.violations), 2)  # asked once more, as a damaged one would be

    def test_without_the_answer_the_board_runs_its_program(self) -> None:
        dialect, chip = self.synced("atmega328p")
        self.assertFalse(chip.running)
        dialect.link.sleep(1.2)
        self.assertTrue(chip.running)
        self.assertIn(b"hive scale 2.3", dialect.link.discard())

    def test_eeprom_of_a_blank_chip_goes_where_it_belongs(self) -> None:
        settings = Image("settings", (Piece(0x91, b"north field"),))
        for board in ("atmega328p", "atmega168"):  # counted in words, in bytes
            runner, trial = prepare(board, {"eeprom": settings}, start=False)
            trial.events.extend(runner.run())
            chip = trial.line.chip
            assert isinstance(chip, SimulatedAvr)
            self.assertEqual(trial.end.exit_code, 0, trial.findings)
            self.assertEqual(chip.eeprom.replace(b"north field", b"\xff" * 11), b"\xff" * len(chip.eeprom))
            self.assertEqual(chip.eeprom.find(b"north field"), 0x91)


class Pairs(unittest.TestCase):
    def test_a_loader_built_for_the_plain_part_is_taken_with_a_note(self) -> None:
        runner, trial = prepare("atmega328p", purpose="greet")
        chip = trial.line.chip
        assert isinstance(chip, SimulatedAvr)
        chip.kind = replace(chip.kind, signature=b"\x1e\x95\x14")
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.exit_code, trial.step("chip").figures["part"]), (0, "atmega328p"), trial.findings)
        notes = [event.text for event in trial.events if isinstance(event, Noted)]
        self.assertIn("its loader answers as an ATmega328: taken for the ATmega328P that was declared", notes)


class Bootloaders(unittest.TestCase):
    """What only the chip tells of its loader."""

    def over(
        self, size: int, loader_bytes: int, vector: bytes = b"", purpose: Any = "upload", **options: Any
    ) -> Trial:
        if purpose == "upload":
            options = {"images": {"flash": sample_for("atmega328p", size)}, **options}
        runner, trial = prepare("atmega328p", purpose=purpose, **options)
        chip = trial.line.chip
        assert isinstance(chip, SimulatedAvr)
        chip.kind = replace(chip.kind, loader_bytes=loader_bytes)
        chip.flash[-4096:] = (b"\x5a" * 4096)[: -loader_bytes or None] + loader_code(loader_bytes)
        chip.flash[: len(vector)] = vector
        self.before = bytes(chip.flash)
        trial.events.extend(runner.run())
        return trial

    def test_where_one_begins_is_read_before_anything_is_written(self) -> None:
        for loader_bytes, fits in ((512, 32_000), (1024, 31_700), (2048, 30_600), (4096, 28_600)):
            with self.subTest(loader_bytes):
                refused = self.over(32768 - loader_bytes + 50 if loader_bytes > 512 else 32_300, loader_bytes)
                self.assertEqual((refused.end.exit_code, refused.findings[0].key), (5, "hits-bootloader"))
                self.assertEqual(bytes(refused.line.chip.flash), self.before)
                if loader_bytes > 512:
                    begins = f"begins at {32768 - loader_bytes:04X} on this chip"
                    self.assertIn(begins, refused.findings[0].cause)
                self.assertEqual(self.over(fits, loader_bytes).end.exit_code, 0)

    def test_an_old_programs_word_that_looks_like_a_jump_is_no_loader(self) -> None:
        """A loader of 512 bytes, and up to it an old program, whose code at 7C00 and 7800 begins with a jump."""
        runner, trial = prepare("atmega328p", {"flash": sample_for("atmega328p", 32_000)})
        chip = trial.line.chip
        assert isinstance(chip, SimulatedAvr)
        chip.flash[0x7000:0x7E00] = b"\x10\xc0\x0f\x92\x08\x95\x11\x24" * 448
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.exit_code, trial.end.green), (0, True), trial.findings)

    def test_what_is_said_of_its_size_decides(self) -> None:
        refused = self.over(31_900, 1024)
        self.assertEqual((refused.findings[0].key, refused.findings[0].certainty), ("hits-bootloader", "likely"))
        self.assertIn("--bootloader-bytes SIZE decides", refused.findings[0].attempts[1])
        told = self.over(31_900, 1024, bootloader_bytes=512)
        self.assertEqual(told.end.exit_code, 6)  # the loader itself refuses, and nothing else does

    def test_a_backup_goes_back_whatever_loader_is_in_it(self) -> None:
        for loader_bytes in (512, 1024, 2048):
            runner, trial = prepare("atmega328p", purpose="backup")
            chip = trial.line.chip
            assert isinstance(chip, SimulatedAvr)
            chip.kind = replace(chip.kind, loader_bytes=loader_bytes)
            chip.flash[-4096:] = (b"\x5a" * 4096)[:-loader_bytes] + loader_code(loader_bytes)
            trial.events.extend(runner.run())
            saved = Image("before.hex", runner.outcome.backup)
            back = self.over(
                900, loader_bytes, images={"flash": saved}, options=WriteOptions(as_it_was=True), start=False
            )
            self.assertEqual((back.end.exit_code, back.end.green), (0, True), back.findings)
            self.assertIn("the bootloader's space", str(back.events))

    def test_the_jump_that_leads_to_one_is_not_taken_away(self) -> None:
        jump = b"\x0c\x94\x00\x3f"  # JMP 7E00
        trial = self.over(900, 512, jump)
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "cuts-off-bootloader"))
        self.assertEqual(bytes(trial.line.chip.flash), self.before)
        moved = Image("moved", (Piece(0, jump + sample_for("atmega328p", 900).pieces[0].data[4:]),))
        self.assertEqual(self.over(900, 512, jump, images={"flash": moved}).end.exit_code, 0)
        erased = self.over(0, 512, jump, "erase", region=("flash", 0, 256))
        self.assertEqual(erased.end.exit_code, 0, erased.findings)
        self.assertEqual(bytes(erased.line.chip.flash[:256]), jump + b"\xff" * 252)

    def test_a_refused_page_of_one_is_called_so(self) -> None:
        runner, trial = prepare("atmega328p", {"flash": sample_for("atmega328p", 31_000)})
        chip = trial.line.chip
        assert isinstance(chip, SimulatedAvr)
        chip.kind = replace(chip.kind, loader_bytes=2048)  # and what it shows of it is blank
        chip.flash[-2048:] = b"\xff" * 2048
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (6, "hits-bootloader"))
        self.assertIn("refuses to write at 7800: that is the bootloader", trial.findings[0].cause)


class DamagedAddresses(unittest.TestCase):
    """Nothing guards them: a page may go anywhere."""

    IMAGE = sample_for("atmega328p", 400)
    BEFORE = bytes((7 * n + (n >> 8)) & 0xFF for n in range(32256))

    def over(self, image: Image, *faults: str) -> tuple[Trial, SimulatedAvr]:
        runner, trial = prepare("atmega328p", {"flash": image}, faults=faults)
        chip = trial.line.chip
        assert isinstance(chip, SimulatedAvr)
        chip.flash[: len(self.BEFORE)] = self.BEFORE
        chip.eeprom[:] = self.BEFORE[: len(chip.eeprom)]
        trial.events.extend(runner.run())
        return trial, chip

    def test_a_page_that_went_elsewhere_is_looked_for(self) -> None:
        causes = []
        for place in range(239, 257):  # the second page: its address, its command, its first bytes
            for mask in ("20", "01", "03"):
                trial, chip = self.over(self.IMAGE, f"flip-to-chip={place}:{mask}")
                beside = bytes(chip.flash[512 : len(self.BEFORE)]) == self.BEFORE[512:]
                beside &= bytes(chip.eeprom) == self.BEFORE[: len(chip.eeprom)]
                if trial.end.exit_code == 0:
                    self.assertTrue(trial.holds(self.IMAGE) and beside, (place, mask))
                elif not beside:
                    self.assertEqual((trial.end.exit_code, trial.findings[0].key), (7, "written-beside"))
                    causes += [trial.findings[0].cause]
        self.assertIn("an address was damaged on the line: what was at 0280 of the flash is gone", causes)
        self.assertIn("an address was damaged on the line: what was at 0080 of the eeprom is gone", causes)

    def test_a_blank_page_that_is_missing_is_not_green(self) -> None:
        data = self.IMAGE.pieces[0].data
        image = Image("with a blank page", (Piece(0, data[:128] + b"\xff" * 128 + data[256:]),))
        self.assertEqual(self.over(image)[0].end.exit_code, 0)
        trial, _ = self.over(image, "flip-to-chip=236:20")
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (7, "written-beside"))
        self.assertIn("where it went cannot be told", trial.findings[0].evidence)

    def test_a_block_that_went_to_the_eeprom(self) -> None:
        image = sample_for("atmega32u4", 400)
        for fault in ("153:02", "153:03", "160:03"):  # the memory's letter in avr-109; a byte of the block
            runner, trial = prepare("atmega32u4", {"flash": image}, faults=(f"flip-to-chip={fault}",))
            chip = trial.line.chip
            assert isinstance(chip, SimulatedAvr109)
            chip.eeprom[:] = self.BEFORE[: len(chip.eeprom)]
            trial.events.extend(runner.run())
            same = bytes(chip.eeprom) == self.BEFORE[: len(chip.eeprom)]
            with self.subTest(fault):
                self.assertTrue((trial.end.exit_code == 0 and same) or trial.findings[0].key == "written-beside")
                self.assertEqual(trial.end.exit_code, 7 if fault == "153:03" else 0)


if __name__ == "__main__":
    unittest.main()
