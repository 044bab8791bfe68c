"""`pic-an851`: frames byte for byte as Microchip's application note has them, and a strict chip."""

from __future__ import annotations

import unittest
from unittest.mock import patch

from greenstep.bench.families.pic import SimulatedAn851
from greenstep.bench.trial import run
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.errors import Silence
from greenstep.core.dialects.pic_an851 import PicAn851
from greenstep.core.dialects.pic_an851 import framed as framed_851
from greenstep.core.dialects.pic_frames import read_frame, stuffed, unstuffed
from greenstep.core.dialects.results import WriteBlock

from ..scripted import ScriptedLink

P4520 = Catalogue.load().find("pic18f4520").speaking("pic-an851").first


class Stuffing(unittest.TestCase):
    def test_each_of_the_three_is_preceded(self) -> None:
        self.assertEqual(stuffed(bytes.fromhex("00 04 05 0F 10")), bytes.fromhex("00 05 04 05 05 05 0F 10"))
        self.assertEqual(
            unstuffed(bytes.fromhex("0F 0F 00 05 04 05 05 05 0F 10 04 77")), bytes.fromhex("00 04 05 0F 10")
        )

    def test_a_frame_among_other_things(self) -> None:
        link = ScriptedLink(("00", "68 69 0F 11 0F 0F 22 05 04 33 04 55"))
        link.write(b"\x00")
        self.assertEqual(read_frame(link, 0.1, "it", 50), bytes.fromhex("22 04 33"))
        with self.assertRaises(Silence):
            read_frame(link, 0.1, "more", 50)


class An851(unittest.TestCase):
    def talk(self, *script: tuple[str, str]) -> PicAn851:
        """Requests and replies by their data."""
        link = ScriptedLink(
            *(
                (framed_851(bytes.fromhex(a)).hex(), framed_851(bytes.fromhex(b)).hex() if b else "")
                for a, b in script
            )
        )
        self.addCleanup(lambda: self.assertTrue(link.finished(), "the script was not played to its end"))
        dialect = PicAn851(link)
        dialect.examined_part = P4520
        return dialect

    def test_checksum_is_the_twos_complement_of_the_sum(self) -> None:
        self.assertEqual(framed_851(b"\x00\x02"), bytes.fromhex("0F 0F 00 02 FE 04"))
        self.assertEqual(framed_851(b"\x01\x04\x00\x02\x00"), bytes.fromhex("0F 0F 01 05 04 00 02 00 F9 04"))

    def test_version_with_and_without_an_address(self) -> None:
        for reply in ("00 02 03 01", "00 02 00 00 00 03 01"):
            self.assertEqual(self.talk(("00 02", reply)).ask(0.2), "0F 0F 00 … version 1.3")

    def test_its_own_request_come_back_is_no_answer(self) -> None:
        self.assertIsNone(self.talk(("00 02", "00 02")).ask(0.2))

    def test_read(self) -> None:
        self.assertEqual(
            self.talk(("01 04 00 02 00", "01 04 00 02 00 DE AD BE EF")).read(P4520.flash, 0x200, 4),
            bytes.fromhex("DEADBEEF"),
        )

    def test_a_write_is_counted_in_the_parts_unit(self) -> None:
        for part, count in (
            (P4520, "02"),
            (Catalogue.load().find("pic18f452").first, "08"),
            (Catalogue.load().find("pic18f4620").first, "01"),
        ):
            dialect = self.talk((f"02 {count} 40 02 00" + "5A" * 64, "02"))
            dialect.examine(part)
            list(dialect.write(part.flash, [WriteBlock(0x240, b"\x5a" * 64)]))
        dialect = self.talk(("02 01 40 02 00" + "5A" * 10 + "FF" * 22, "02"))
        list(dialect.write(P4520.flash, [WriteBlock(0x240, b"\x5a" * 10)]))

    def test_before_it_erases_the_loader_is_told_to_stay(self) -> None:
        dialect = self.talk(
            ("05 01 FF 00 00 FF", "05"),
            ("04 01 FF 00 00", "04 01 FF 00 00 FF"),
            ("03 02 00 02 00", "03"),
            ("03 01 00 04 00", "03"),
        )
        units = [*P4520.flash.units_touched(0x200, 128), *P4520.flash.units_touched(0x400, 64)]
        self.assertEqual(list(dialect.erase(P4520.flash, units)), [2, 3])

    def test_starting_says_run_and_resets(self) -> None:
        dialect = self.talk(("05 01 FF 00 00 00", "05"), ("04 01 FF 00 00", "04 01 FF 00 00 00"), ("00 00", ""))
        self.assertIn("set to run", dialect.start(0))

    def test_silence_is_asked_again(self) -> None:
        asked, told = (
            framed_851(b"\x01\x02\x00\x02\x00").hex(),
            framed_851(bytes.fromhex("01 02 00 02 00 12 34")).hex(),
        )
        version = "04" + PicAn851.spec.asking.sent.hex()
        link = ScriptedLink((asked, ""), (version, ""), ("04", ""), (asked, told))
        self.assertEqual(PicAn851(link).read(P4520.flash, 0x200, 2), b"\x12\x34")

    def test_what_answers_the_version_first_has_lost_the_reply(self) -> None:
        asked, told = (
            framed_851(b"\x01\x02\x00\x02\x00").hex(),
            framed_851(bytes.fromhex("01 02 00 02 00 12 34")).hex(),
        )
        version, its = "04" + PicAn851.spec.asking.sent.hex(), framed_851(bytes.fromhex("00 02 03 01")).hex()
        link = ScriptedLink((asked, ""), (version, its), ("04", ""), (asked, told))
        self.assertEqual(PicAn851(link).read(P4520.flash, 0x200, 2), b"\x12\x34")
        self.assertLess(link.clock, 1.0)  # a loader that hears nothing for a second starts the program
        late = ScriptedLink((asked, ""), (version, told + its))
        self.assertEqual(PicAn851(late).read(P4520.flash, 0x200, 2), b"\x12\x34")


class Called(unittest.TestCase):
    def test_a_loader_that_only_its_program_leads_to_is_told_of(self) -> None:
        """As the document has it: after a reset it looks at the EEPROM, and does not listen."""
        with patch.object(SimulatedAn851, "listens_s", 0.0):
            trial = run("pic18f4520", purpose="greet")
        self.assertEqual(trial.findings[0].key, "application")
        self.assertIn("it writes FF to the last byte of the EEPROM", trial.findings[0].attempts[0])


if __name__ == "__main__":
    unittest.main()
