"""Values that each board of a batch has for itself."""

from __future__ import annotations

import unittest
from collections.abc import Mapping
from pathlib import Path

from greenstep.core.batch.board_values import BoardValues, with_values
from greenstep.core.engine.job import Job
from greenstep.core.errors import UsageFault
from greenstep.core.families import origins_of
from greenstep.core.image.patch import parse_patch
from greenstep.core.plan.write_options import TalkLine
from greenstep.store.board import BoardSettings, ImageFile, PortChoice, TalkEntry
from greenstep.work.board import Board
from greenstep.work.jobs import make_job

IMAGES = Path(__file__).parents[2] / "examples" / "apiary" / "images"
ROWS: tuple[Mapping[str, str], ...] = tuple({"serial": f"A-{n}", "mac": f"02:00:00:00:00:{n:02X}"} for n in range(3))


class Patches(unittest.TestCase):
    def test_every_form(self) -> None:
        values = {"serial": "A-7", "count": "300", "mac": "02:00:5E:10:00:FF"}
        for text, data in {
            "0x7C=32 2E 35": b"2.5",
            '0x7C="2.5"': b"2.5",
            "0x7C='{serial}\\0'": b"A-7\0",
            '0x7C="no {count:06} {{x}}"': b"no 000300 {x}",
            "0x7C={count:u16}": b"\x2c\x01",
            "0x7C={count:u32be} FF": b"\x00\x00\x01\x2c\xff",
            "0x7C={mac:hex}": b"\x02\x00\x5e\x10\x00\xff",
        }.items():
            with self.subTest(text):
                self.assertEqual(parse_patch(text).data(values), data)
        self.assertEqual((parse_patch("eeprom:4=FF").memory, parse_patch("eeprom:4=FF").address), ("eeprom", 4))

    def test_what_is_none(self) -> None:
        for text in ("7C", "0x7C=", "0x7C=xyz", "0x7C={serial}", "0x7C={a:u24}", '0x7C="{a:u32}"', "0x7C={", "x=FF", '0x7C="\\x00"',
                     "0xFFFFFFFF=0102", '0x7C="{}"', '0x7C="{a!r}"'):  # fmt: skip
            with self.subTest(text), self.assertRaises(ValueError):
                parse_patch(text)
        for text, value in (("0={a:u8}", "256"), ("0={a:hex}", "xy"), ("0={a:u16}", "-1"), ("0={a:u16}", "many")):
            with self.subTest(text, value=value), self.assertRaises(ValueError):
                parse_patch(text).data({"a": value})


class PutIn(unittest.TestCase):
    def job(self, chip: str, image: str, at: int | None = None, say: str = "serial {serial}") -> Job:
        talk = (TalkEntry(expect="?", send=say),)
        port = PortChoice(name="none/such")
        settings = BoardSettings(chip=chip, port=port, images=(ImageFile(IMAGES / image, at),), talk=talk)
        return make_job("upload", Board("", settings))

    def test_image_and_talk(self) -> None:
        job = self.job("stm32f072", "brood-probe.hex")
        patches = [parse_patch('0x8000400="{serial}"'), parse_patch("0x8000410={count:u32}")]
        own = with_values(job, patches, {"serial": "A-7", "count": "12"})
        flash, before = own.images["flash"], job.images["flash"]
        self.assertEqual(flash.cut(0x8000400, 3, 0), b"A-7")
        self.assertEqual(flash.cut(0x8000410, 4, 0), b"\x0c\0\0\0")
        self.assertEqual((flash.cut(0x8000403, 13, 0), flash.end), (before.cut(0x8000403, 13, 0), before.end))
        self.assertEqual(own.talk, (TalkLine("?", 5.0, "serial A-7"),))
        self.assertEqual((own.own_values, own.common_flash), ("serial=A-7, count=12", before))
        self.assertNotEqual(job.images["flash"], flash)

    def test_the_sums_of_a_boot_header_are_redone(self) -> None:
        job = self.job("esp32", "gateway.bin", 0x10000)
        own = with_values(job, [parse_patch('0x10100="{serial}"')], {"serial": "A-7"})
        (origin,) = origins_of(own.images["flash"])
        assert origin.header is not None
        self.assertTrue(origin.header.checksum_right)
        self.assertTrue(origin.header.digest_right)
        self.assertEqual(own.images["flash"].cut(0x10100, 3, 0), b"A-7")

    def test_an_eeprom_of_its_own(self) -> None:
        own = with_values(
            self.job("atmega328p", "hive-scale.hex"),
            [parse_patch("eeprom:4={count:u16}")],
            {"count": "9", "serial": ""},
        )
        self.assertEqual([(p.address, p.data) for p in own.images["eeprom"].pieces], [(4, b"\x09\0")])

    def test_what_is_refused_before_the_first_board(self) -> None:
        job = self.job("stm32f072", "brood-probe.hex")
        number = parse_patch("0={serial:u8}")
        for said, values, wanted in (
            ("no value mac", BoardValues("s", ({"serial": "1"},), None, (parse_patch("0={mac:hex}"),)), job),
            ("no value serial", BoardValues("s", (), 1, (parse_patch("0={count:u8}"),)), job),
            ("goes anywhere", BoardValues("s", ROWS), self.job("stm32f072", "brood-probe.hex", say="hello")),
            ("row 2", BoardValues("s", ({"serial": "1"}, {"serial": "256"}), None, (number,)), job),
            ("no eeprom", BoardValues("s", ROWS, None, (parse_patch("eeprom:0={mac:hex}"),)), job),
            ("what is said to the application", BoardValues("s", ROWS), self.job("stm32f072", "brood-probe.hex", say="{serial")),
        ):  # fmt: skip
            with self.subTest(said), self.assertRaisesRegex(UsageFault, said):
                values.check(wanted)
