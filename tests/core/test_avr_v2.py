"""`avr-v2`: messages byte for byte as Atmel AVR068 has them, and a strict board told the wrong things."""

from __future__ import annotations

import unittest
from functools import reduce
from operator import xor

from greenstep.bench.avr_v2 import KINDS, SimulatedAvrV2
from greenstep.bench.boards import BOARDS
from greenstep.bench.virtual_link import VirtualLink
from greenstep.core.chips import Catalogue
from greenstep.core.dialects.avr_v2 import AvrV2
from greenstep.core.dialects.base import ChipRefusal, Unexpected, WriteBlock
from greenstep.core.hookup import Driver, named_hookup
from greenstep.core.link import LineSettings

from .scripted import ScriptedLink

M2560 = Catalogue.load().find("atmega2560").first
SIGN_ON = "01 00 08 41 42 43 44 45 46 47 48"


def message(number: int, body: str) -> str:
    """1B, number, size, 0E, body, XOR of everything before."""
    data = bytes.fromhex(body)
    head = bytes([0x1B, number]) + len(data).to_bytes(2, "big") + b"\x0e" + data
    return (head + bytes([reduce(xor, head)])).hex()


class Messages(unittest.TestCase):
    def talk(self, *script: tuple[str, str]) -> AvrV2:
        """A conversation of bodies; both sides number them from 1."""
        link = ScriptedLink(
            *((message(n, sent), message(n, reply) if reply else "") for n, (sent, reply) in enumerate(script, 1))
        )
        self.addCleanup(lambda: self.assertTrue(link.finished(), "the script was not played to its end"))
        return AvrV2(link)

    def test_sign_on(self) -> None:
        self.assertEqual(self.talk(("01", SIGN_ON)).ask(0.1), '1B … 01 00 "ABCDEFGH"')

    def test_its_own_echo_is_no_answer(self) -> None:
        self.assertIsNone(AvrV2(ScriptedLink((message(1, "01"), message(1, "01")))).ask(0.1))

    def test_an_answer_to_an_earlier_asking_is_passed_over(self) -> None:
        link = ScriptedLink((message(1, "01"), ""), (message(2, "01"), message(1, SIGN_ON) + message(2, SIGN_ON)))
        dialect = AvrV2(link)
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
        self.assertEqual(list(dialect.write(M2560.flash, pages)), pages)

    def test_read(self) -> None:
        dialect = self.talk(
            ("06 00 00 01 00", "06 00"), ("14 00 04 20", "14 00 DE AD BE EF 00"), ("14 00 02 20", "14 00 12 34 00")
        )
        self.assertEqual(dialect.read(M2560.flash, 0x200, 4), bytes.fromhex("DEADBEEF"))
        self.assertEqual(dialect.read(M2560.flash, 0x204, 2), bytes.fromhex("1234"))

    def test_eeprom_is_counted_in_bytes(self) -> None:
        dialect = self.talk(("06 00 00 01 01", "06 00"), ("16 00 03 A0", "16 00 01 02 03 00"))
        self.assertEqual(dialect.read(M2560.memory("eeprom"), 0x101, 3), b"\x01\x02\x03")

    def test_a_refusal_is_one(self) -> None:
        with self.assertRaises(ChipRefusal) as caught:
            self.talk(("11 01 01", "11 C0")).start(0)
        self.assertEqual(caught.exception.answer, bytes([0x11, 0xC0]))

    def test_leaving(self) -> None:
        self.assertEqual(self.talk(("11 01 01", "11 00")).start(0), "leave acknowledged")


class StrictBoard(unittest.TestCase):
    def setUp(self) -> None:
        line = BOARDS["atmega2560"].build()
        hookup = named_hookup("cap-dtr", "")
        self.link = VirtualLink(line, LineSettings(115200), hookup.idle_lines)
        assert hookup.enter is not None and isinstance(line.chip, SimulatedAvrV2)
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
        page = "13 01 00 C1 0A 40 4C 20 FF FF" + "5A" * 256
        self.assertEqual(self.say(page), "13 C0")  # outside programming mode
        self.assertEqual(self.say("10 C8 64 19 20 00 53 03 AC 53 00 00"), "10 00")
        self.assertEqual([self.say("06 80 00 00 01"), self.say(page)], ["06 00", "13 C0"])
        self.assertEqual([self.say("06 80 01 F0 00"), self.say(page)], ["06 00", "13 C0"])  # the loader's room
        self.assertEqual([self.say("06 80 00 00 80"), self.say(page)], ["06 00", "13 00"])
        self.assertEqual(bytes(self.chip.flash[0x100:0x200]), b"\x5a" * 256)
        self.assertEqual(len(self.chip.violations), 3)

    def test_unknown_commands_and_silence(self) -> None:
        self.assertEqual(self.say("77"), "77 C9")
        self.link.sleep(KINDS["atmega2560"].listens_s + 0.1)
        self.assertTrue(self.chip.running)
        with self.assertRaisesRegex(Unexpected, "frame lift 1.0 ready"):  # the program's text is no reply
            AvrV2(self.link).read(M2560.flash, 0, 2)


if __name__ == "__main__":
    unittest.main()
