"""`avr-109`: letters as Atmel AVR109 has them."""

from __future__ import annotations

import unittest

from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.avr_109 import Avr109, Command
from greenstep.core.dialects.errors import ChipRefusal
from greenstep.core.dialects.results import WriteBlock

from ..scripted import ScriptedLink

RESIDENT, M32U4 = (Catalogue.load().find(name).first for name in ("any", "atmega32u4"))


class Letters(unittest.TestCase):
    def talk(self, *script: tuple[str, str]) -> Avr109:
        link = ScriptedLink(*script)
        self.addCleanup(lambda: self.assertTrue(link.finished(), "the script was not played to its end"))
        dialect = Avr109(link)
        dialect._buffer = 128
        return dialect

    def test_the_identifier_must_come_out_twice(self) -> None:
        name = b"APIARY9".hex()
        self.assertEqual(self.talk(("53", name), ("53", name)).ask(0.2), '"APIARY9"')
        for first, second in ((name, b"hive sc".hex()), (name, "")):
            self.assertIsNone(self.talk(("53", first), ("53", second)).ask(0.2))
        for reply in ("", "53", b"kg\r\n41.".hex(), "3F"):
            self.assertIsNone(self.talk(("53", reply)).ask(0.2))

    def test_identify(self) -> None:
        identity = self.talk(
            ("56", "31 30"), ("73", "87 95 1E"), ("73", "87 95 1E"), ("62", "59 00 80"), ("50", "0D")
        ).identify()
        self.assertEqual(
            (identity.ident, identity.said, identity.details), (0x1E9587, "signature 1E 95 87", (("loader", "1.0"),))
        )

    def test_a_loader_without_blocks(self) -> None:
        with self.assertRaisesRegex(ChipRefusal, "no block mode"):
            self.talk(("56", "31 30"), ("73", "87 95 1E"), ("73", "87 95 1E"), ("62", "4E 00 00")).identify()

    def test_pages_count_on(self) -> None:
        dialect = self.talk(
            ("41 00 80", "0D"), ("42 00 80 46" + "11" * 128, "0D"), ("42 00 80 46" + "22" * 128, "0D")
        )
        list(dialect.write(M32U4.flash, [WriteBlock(0x100, b"\x11" * 128), WriteBlock(0x180, b"\x22" * 128)]))

    def test_above_64_k_words(self) -> None:
        self.assertEqual(
            self.talk(("48 01 00 00", "0D"), ("67 00 02 46", "12 34")).read(M32U4.flash, 0x20000, 2), b"\x12\x34"
        )

    def test_eeprom_in_bytes(self) -> None:
        self.assertEqual(
            self.talk(("41 01 01", "0D"), ("67 00 01 45", "5A")).read(M32U4.memory("eeprom"), 0x101, 1), b"\x5a"
        )

    def test_erase_leave_and_refusal(self) -> None:
        self.talk(("65", "0D")).erase_all(M32U4.flash)
        self.assertEqual(self.talk(("4C", "0D"), ("45", "0D")).start(0), "exit acknowledged")
        with self.assertRaises(ChipRefusal):
            self.talk(("65", "3F"))._order(Command.ERASE_ALL)


if __name__ == "__main__":
    unittest.main()
