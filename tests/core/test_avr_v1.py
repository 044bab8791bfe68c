"""`avr-v1`: exchanges as Atmel AVR061 has them, and behaviour against the strict boards."""

from __future__ import annotations

import unittest
from dataclasses import replace

from greenstep.bench.avr import KINDS, SimulatedAvr
from greenstep.bench.boards import BOARDS
from greenstep.bench.faults import Faults
from greenstep.bench.trial import prepare
from greenstep.bench.virtual_link import VirtualLink
from greenstep.core.chips import Catalogue
from greenstep.core.dialects.avr_v1 import AvrV1
from greenstep.core.dialects.base import ChipRefusal, Silence, Unexpected, WriteBlock
from greenstep.core.hookup import Driver, named_hookup
from greenstep.core.link import LineSettings

from .scripted import ScriptedLink

AVR_KIND = KINDS["atmega1284p"]
M328P = Catalogue.load().find("atmega328p").first
IDENTIFY = (
    ("41 81 20", "14 04 10"), ("41 82 20", "14 04 10"), ("50 20", "14 10"),
    ("75 20", "14 1E 95 0F 10"), ("75 20", "14 1E 95 0F 10"),
)  # fmt: skip


class Exchanges(unittest.TestCase):
    def talk(self, *script: tuple[str, str]) -> AvrV1:
        link = ScriptedLink(*script)
        self.addCleanup(lambda: self.assertTrue(link.finished(), "the script was not played to its end"))
        return AvrV1(link)

    def test_sync(self) -> None:
        cases = {"14 10": "14 10", "": None, "14": None, "41 14 10": "14 10", "14 10 14 10": "14 10", "30 20": None}
        for reply, answer in cases.items():
            with self.subTest(reply):
                self.assertEqual(self.talk(("30 20", reply)).ask(0.1), answer)

    def test_identify(self) -> None:
        identity = self.talk(*IDENTIFY).identify()
        self.assertEqual((identity.ident, identity.said), (0x1E950F, "signature 1E 95 0F"))
        self.assertEqual(dict(identity.details)["loader"], "4.4")

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
        good = ("55 00 00 20 74 00 01 46 20", "14 10 14 5A 10")
        self.assertEqual(self.talk(read, ("30 20", "14 10"), good).read(M328P.flash, 0, 1), b"\x5a")

    def test_failed_and_unknown_are_refusals(self) -> None:
        for answer in ("14 11", "14 12"):
            with self.subTest(answer), self.assertRaises(ChipRefusal):
                self.talk(("75 20", answer))._signature()

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
    def synced(self, board: str) -> tuple[AvrV1, SimulatedAvr]:
        line = BOARDS[board].build(Faults())
        hookup = named_hookup("cap-dtr", "")
        link = VirtualLink(line, LineSettings(BOARDS[board].baud), hookup.idle_lines)
        assert hookup.enter is not None
        Driver(link, hookup).run(hookup.enter)
        dialect = AvrV1(link)
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
        link.sleep(AvrV1.traits.settles_s[0])
        dialect = AvrV1(link)
        return [dialect.ask(pace_s) for _ in range(4)]

    def test_hasty_asking_loses_a_loader_that_flashes_first(self) -> None:
        self.assertEqual(self.answers_at(0.08), [None, None, "14 10", None])

    def test_a_loader_that_takes_two_seconds_is_found(self) -> None:
        slow = replace(AVR_KIND, led_s=1.7, listens_s=5.0)
        climb, trial = prepare("atmega1284p", {}, purpose="greet")
        trial.line.chip.kind = slow  # type: ignore[attr-defined]
        trial.events.extend(climb.run())
        self.assertEqual(trial.end.exit_code, 0, trial.findings)

    def test_the_dialects_own_pace_does_not(self) -> None:
        self.assertEqual(self.answers_at(AvrV1.traits.ask_wait_s), ["14 10"] * 4)

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
        self.assertEqual(len(chip.violations), 1)

    def test_without_the_answer_the_board_runs_its_program(self) -> None:
        dialect, chip = self.synced("atmega328p")
        self.assertFalse(chip.running)
        dialect.link.sleep(1.2)
        self.assertTrue(chip.running)
        self.assertIn(b"hive scale 2.3", dialect.link.discard())


if __name__ == "__main__":
    unittest.main()
