"""`avr-068`: messages byte for byte as Atmel AVR068 has them, and a strict board told the wrong things."""

from __future__ import annotations

import unittest
from dataclasses import replace
from functools import reduce
from operator import xor
from typing import Any

from greenstep.bench.boards import BOARDS
from greenstep.bench.families.avr_068 import KINDS, SimulatedAvr068
from greenstep.bench.person import Hands
from greenstep.bench.trial import Trial, prepare, run, sample_for
from greenstep.bench.virtual_link import VirtualLink
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.avr_068 import Avr068
from greenstep.core.dialects.errors import ChipRefusal, Unexpected
from greenstep.core.dialects.results import WriteBlock
from greenstep.core.events import Noted
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.hookup.drive import Driver
from greenstep.core.image import Image, Piece
from greenstep.core.link import LineSettings

from ..sample import some
from ..scripted import ScriptedLink
from .observed import strict

M2560 = Catalogue.load().find("atmega2560").first
SIGN_ON = "01 00 08 41 42 43 44 45 46 47 48"


def message(number: int, body: str) -> str:
    """1B, number, size, 0E, body, XOR of everything before."""
    data = bytes.fromhex(body)
    head = bytes([0x1B, number]) + len(data).to_bytes(2, "big") + b"\x0e" + data
    return (head + bytes([reduce(xor, head)])).hex()


class Messages(unittest.TestCase):
    def talk(self, *script: tuple[str, str]) -> Avr068:
        """A conversation of bodies; both sides number them from 1."""
        link = ScriptedLink(
            *((message(n, sent), message(n, reply) if reply else "") for n, (sent, reply) in enumerate(script, 1))
        )
        self.addCleanup(lambda: self.assertTrue(link.finished(), "the script was not played to its end"))
        return Avr068(link)

    def test_sign_on(self) -> None:
        self.assertEqual(self.talk(("01", SIGN_ON)).ask(0.1), '1B … 01 00 "ABCDEFGH"')

    def test_its_own_echo_is_no_answer(self) -> None:
        self.assertIsNone(Avr068(ScriptedLink((message(1, "01"), message(1, "01")))).ask(0.1))

    def test_an_answer_to_an_earlier_asking_is_passed_over(self) -> None:
        link = ScriptedLink((message(1, "01"), ""), (message(2, "01"), message(1, SIGN_ON) + message(2, SIGN_ON)))
        dialect = Avr068(link)
        self.assertEqual([dialect.ask(0.1), dialect.ask(0.1)], [None, '1B … 01 00 "ABCDEFGH"'])

    def test_identify(self) -> None:
        identity = self.talk(
            ("03 91", "03 00 02"), ("03 92", "03 00 0A"), ("10 C8 64 19 20 00 53 03 AC 53 00 00", "10 00"),
            ("1B 04 30 00 00 00", "1B 00 1E 00"), ("1B 04 30 00 01 00", "1B 00 98 00"), ("1B 04 30 00 02 00", "1B 00 01 00"),
        ).identify()  # fmt: skip
        self.assertEqual((identity.ident, identity.details), (0x1E9801, (("loader", "2.10"),)))

    def test_a_loader_without_parameters(self) -> None:
        identity = self.talk(
            ("03 91", "03 C9"), ("10 C8 64 19 20 00 53 03 AC 53 00 00", "10 00"), ("1B 04 30 00 00 00", "1B 00 1E 00"),
            ("1B 04 30 00 01 00", "1B 00 97 00"), ("1B 04 30 00 02 00", "1B 00 03 00"),
        ).identify()  # fmt: skip
        self.assertEqual((identity.ident, identity.details), (0x1E9703, ()))

    def test_pages_count_on_and_the_address_is_sent_where_they_do_not(self) -> None:
        pages = [WriteBlock(at, bytes([n]) * 256) for n, at in enumerate((0x1FF00, 0x20000, 0x20100))]
        head = "13 01 00 C1 0A 40 4C 20 FF FF"
        dialect = self.talk(
            ("06 80 00 FF 80", "06 00"), (head + "00" * 256, "13 00"),
            ("06 80 01 00 00", "06 00"), (head + "01" * 256, "13 00"), (head + "02" * 256, "13 00"),
        )  # fmt: skip
        dialect.examine(M2560)
        dialect.was_reset()
        self.assertEqual(list(dialect.write(M2560.flash, pages)), pages)

    def test_read(self) -> None:
        dialect = self.talk(
            ("06 00 00 01 00", "06 00"), ("14 00 04 20", "14 00 DE AD BE EF 00"), ("14 00 02 20", "14 00 12 34 00")
        )
        self.assertEqual(dialect.read(M2560.flash, 0x200, 4), bytes.fromhex("DEADBEEF"))
        self.assertEqual(dialect.read(M2560.flash, 0x204, 2), bytes.fromhex("1234"))

    def test_eeprom_is_read_from_0_on_for_only_0_is_0_in_bytes_and_in_words(self) -> None:
        dialect = self.talk(("06 00 00 00 00", "06 00"), ("16 00 05 A0", "16 00 09 08 01 02 03 00"),
                            ("16 00 02 A0", "16 00 04 05 00"))  # fmt: skip
        eeprom = M2560.memory("eeprom")
        self.assertEqual(dialect.read(eeprom, 2, 3), b"\x01\x02\x03")
        self.assertEqual(dialect.read(eeprom, 5, 2), b"\x04\x05")

    def test_eeprom_is_written_from_0_on_with_what_was_before_it(self) -> None:
        eeprom, head = M2560.memory("eeprom"), "C1 0A 40 4C 20 FF FF"
        dialect = self.talk(
            ("06 00 00 00 00", "06 00"), ("16 00 03 A0", "16 00 11 22 33 00"),
            ("06 00 00 00 00", "06 00"), ("16 00 03 A0", "16 00 11 22 33 00"),
            ("06 00 00 00 00", "06 00"), (f"15 00 05 {head} 11 22 33 44 55", "15 00"),
            ("06 00 00 00 00", "06 00"), ("16 00 05 A0", "16 00 11 22 33 44 55 00"),
        )  # fmt: skip
        blocks = [WriteBlock(3, b"\x44\x55")]
        self.assertEqual(list(dialect.write(eeprom, blocks)), blocks)

    def test_a_refusal_is_one(self) -> None:
        with self.assertRaises(ChipRefusal) as caught:
            self.talk(("11 01 01", "11 C0")).start(0)
        self.assertEqual(caught.exception.answer, bytes([0x11, 0xC0]))

    def test_leaving(self) -> None:
        self.assertEqual(self.talk(("11 01 01", "11 00")).start(0), "leave acknowledged")


PAGE = "13 01 00 C1 0A 40 4C 20 FF FF" + "5A" * 256


class EepromWithGaps(unittest.TestCase):
    def test_what_is_between_the_pieces_stays_and_a_second_upload_writes_what_differs(self) -> None:
        pieces = (Piece(8, bytes(range(100))), Piece(0x200, bytes(range(50))), Piece(0x303, bytes(range(9))))
        image = Image("calibration", pieces)
        for board in ("atmega2560", "atmega1280", "at90usb1286", "atmega328p"):
            held = bytes((7 * n + (n >> 8)) & 0xFF for n in range(0x400))
            for _ in range(2):
                with self.subTest(board):
                    runner, trial = prepare(board, {"eeprom": image})
                    trial.line.chip.eeprom[: len(held)] = held
                    trial.events.extend(runner.run())
                    wanted = bytearray(held)
                    for piece in pieces:
                        wanted[piece.address : piece.end] = piece.data
                    found = bytes(trial.line.chip.eeprom[: len(wanted)])
                    self.assertEqual((trial.end.exit_code, found), (0, bytes(wanted)), trial.end)
                    self.assertEqual(trial.line.chip.violations, [])
                held = bytes(byte ^ (at in (10, 0x210)) for at, byte in enumerate(wanted))

    def test_a_byte_between_the_pieces_that_does_not_come_back_is_red(self) -> None:
        class Worn(bytearray):
            """Written again, one byte is something else."""

            def __setitem__(self, place: Any, value: Any) -> None:
                super().__setitem__(place, value)
                super().__setitem__(0x150, 0x21)

        image = Image("calibration", (Piece(8, bytes(range(100))), Piece(0x200, bytes(range(50)))))
        runner, trial = prepare("atmega2560", {"eeprom": image})
        trial.line.chip.eeprom = Worn(trial.line.chip.eeprom)
        trial.events.extend(runner.run())
        self.assertTrue(trial.holds(image, "eeprom"))
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (7, "written-beside"))


class ErasesInOrder(unittest.TestCase):
    """A loader that erases pages at a count of its own."""

    def over(self, image: Image, faults: tuple[str, ...] = (), **options: Any) -> Trial:
        """An upload to a board full of another program."""
        runner, trial = prepare("atmega2560", {"flash": image}, faults=faults, **options)
        chip = trial.line.chip
        self.before = sample_for("atmega2560", 40_000, seed=9).pieces[0].data
        chip.flash[: len(self.before)] = self.before
        trial.events.extend(runner.run())
        return trial

    def right(self, trial: Trial, image: Image) -> None:
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        self.assertTrue(trial.holds(image))
        beside = -(-image.end // 256) * 256
        self.assertEqual(trial.line.chip.flash[beside : len(self.before)], self.before[beside:])
        self.assertEqual(trial.line.chip.violations, [])

    def test_what_stands_between_pieces_is_read_and_given_back(self) -> None:
        image = sample_for("atmega2560", 1000)
        image = Image("gap", (*image.pieces, Piece(0x1804, b"names" * 20)))
        trial = self.over(image)
        self.right(trial, image)
        self.assertEqual(trial.line.chip.flash[0x400:0x1800], self.before[0x400:0x1800])
        notes = [event.text for event in trial.events if isinstance(event, Noted)]
        self.assertIn("0400-17FF would be erased too: read in two ways and equal, and written back", notes)

    def test_a_lost_reply_in_the_middle_erases_nothing_beside(self) -> None:
        image = sample_for("atmega2560", 3000)
        clean = self.over(image)
        for place in some(range(120, clean.line.to_host_count, 130), 8):
            for fault in (f"drop-to-host={place}", f"drop-to-chip={place * 6}"):
                with self.subTest(fault):
                    self.right(self.over(image, (fault,)), image)

    def test_one_that_went_on_counting_since_an_earlier_upload_is_told(self) -> None:
        runner, trial = prepare(
            "atmega2560", {"flash": sample_for("atmega2560", 3000)}, hands=Hands(0.2), compare=False
        )
        chip = trial.line.chip
        assert isinstance(chip, SimulatedAvr068)
        chip.flash[:0x8000] = bytes(range(256)) * 128
        chip.kind = replace(chip.kind, erases_from=0x5000)
        trial.events.extend(runner.run())
        self.assertNotEqual(trial.end.exit_code, 0)
        self.assertIn("has not been reset since it last wrote", str(trial.findings))
        self.assertEqual(sum(chip.flash[at : at + 256] != bytes(range(256)) for at in range(0, 0x8000, 256)), 2)


class StrictBoard(unittest.TestCase):
    def setUp(self) -> None:
        line = BOARDS["atmega2560"].build()
        hookup = named_hookup("cap-dtr", "")
        self.link = VirtualLink(line, LineSettings(115200), hookup.idle_lines)
        assert hookup.enter is not None and isinstance(line.chip, SimulatedAvr068)
        Driver(self.link, hookup).run(hookup.enter)
        self.link.sleep(0.05)
        self.chip = line.chip

    def say(self, body: str) -> str:
        self.link.write(bytes.fromhex(message(5, body)))
        return self.link.read(400, 0.3)[5:-1].hex(" ").upper()

    def test_a_damaged_message_is_told_and_not_acted_on(self) -> None:
        damaged = bytearray.fromhex(message(5, "06 00 00 01 00"))
        damaged[8] ^= 1
        self.link.write(bytes(damaged))
        self.assertEqual(self.link.read(40, 0.3)[5:7], b"\xb0\xc1")

    def test_what_a_page_must_be(self) -> None:
        page = PAGE
        self.assertEqual(self.say(page), "13 C0")  # outside programming mode
        self.assertEqual(self.say("10 C8 64 19 20 00 53 03 AC 53 00 00"), "10 00")
        self.assertEqual([self.say("06 80 00 00 01"), self.say(page)], ["06 00", "13 C0"])
        self.assertEqual([self.say("06 80 01 F0 00"), self.say(page)], ["06 00", "13 C0"])  # the loader's room
        self.assertEqual([self.say("06 80 00 00 00"), self.say(page), self.say(page)], ["06 00", "13 00", "13 00"])
        self.assertEqual(bytes(self.chip.flash[:0x200]), b"\x5a" * 512)
        self.assertEqual(len(self.chip.violations), 3)

    def test_a_page_out_of_order_erases_another(self) -> None:
        self.say("10 C8 64 19 20 00 53 03 AC 53 00 00")
        self.chip.flash[:0x300] = bytes(range(256)) * 3
        self.assertEqual([self.say("06 80 00 01 00"), self.say(PAGE)], ["06 00", "13 00"])
        self.assertEqual(set(self.chip.flash[:0x100]), {0xFF})
        self.assertEqual(self.chip.flash[0x200:0x300], bytes(value & 0x5A for value in range(256)))
        self.assertEqual(len(self.chip.violations), 1)

    def test_unknown_commands_and_silence(self) -> None:
        self.assertEqual(self.say("77"), "77 C9")
        self.link.sleep(KINDS["atmega2560"].listens_s + 0.1)
        self.assertTrue(self.chip.running)
        with self.assertRaisesRegex(Unexpected, "frame lift 1.0 ready"):  # the program's text is no reply
            Avr068(self.link).read(M2560.flash, 0, 2)


class OddSizes(unittest.TestCase):
    def test_flash_is_read_in_whole_words(self) -> None:
        pieces = (Piece(0, sample_for("atmega2560", 701).pieces[0].data), Piece(0x2001, b"wax" * 33))
        image = Image("lift.hex", pieces)
        for purpose in ("upload", "verify"):
            runner, trial = prepare("atmega2560", {"flash": image}, purpose=purpose, start=False)
            if purpose == "verify":
                for piece in pieces:
                    trial.line.chip.flash[piece.address : piece.end] = piece.data  # type: ignore[attr-defined]
            trial.events.extend(runner.run())
            self.assertEqual((trial.end.exit_code, trial.end.green, trial.line.chip.violations), (0, True, []))
        runner, trial = prepare("atmega2560", purpose="backup", region=("flash", 0x101, 77))
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.exit_code, trial.line.chip.violations), (0, []), trial.findings)


class LargeAvr(unittest.TestCase):
    def test_above_128_kib(self) -> None:
        image = sample_for("atmega2560", 140_000)
        trial = run("atmega2560", {"flash": image})
        self.assertEqual(trial.end.exit_code, 0)
        self.assertTrue(trial.holds(image))
        self.assertEqual(strict(trial), [])

    def test_a_core_whose_signature_is_made_up(self) -> None:
        part = Catalogue.load().find("pic32mx").first
        image = Image("lift.hex", (Piece(part.flash.start, bytes(range(1, 200)) * 3),))
        trial = run("atmega2560", {"flash": image}, choice=Catalogue.load().find("pic32mx"), start=False)
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        self.assertIn("signature 1E 98 01, PIC32MX", trial.step("chip").evidence)
        self.assertTrue(trial.holds(image, start=part.flash.start))


if __name__ == "__main__":
    unittest.main()
