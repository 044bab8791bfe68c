"""`pic-an1310`: frames byte for byte as Microchip's application note has them, and a loader that stays in reach."""

from __future__ import annotations

import unittest
from typing import Any

from greenstep.bench.boards import BOARDS
from greenstep.bench.families.pic import SimulatedAn1310
from greenstep.bench.trial import prepare, run, sample_for
from greenstep.bench.virtual_link import VirtualLink
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.pic_an851 import framed as framed_851
from greenstep.core.dialects.pic_an1310 import PicAn1310
from greenstep.core.dialects.pic_an1310 import framed as framed_1310
from greenstep.core.dialects.registry import find_dialect
from greenstep.core.dialects.results import WriteBlock
from greenstep.core.errors import RefusedFault
from greenstep.core.events import Noted
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.hookup.drive import Driver
from greenstep.core.image import Image, Piece
from greenstep.core.link import LineSettings
from greenstep.core.plan.layout import make_plan
from greenstep.core.plan.write_options import WriteOptions

from ..sample import some
from ..scripted import ScriptedLink
from .observed import notes

P46K22 = Catalogue.load().find("pic18f46k22").first


class An1310(unittest.TestCase):
    info = "00 04 05 01 FF 04 00 FC 00 00 54 00"

    def frames(self, *script: tuple[str, str]) -> list[tuple[str, str]]:
        return [
            (framed_1310(bytes.fromhex(a)).hex(), framed_1310(bytes.fromhex(b)).hex() if b else "") for a, b in script
        ]

    def test_crc_over_what_is_not_stuffed(self) -> None:
        # CRC-16, polynomial 1021, from 0: of 31..39 it is 31C3, low byte first
        self.assertEqual(framed_1310(b"123456789"), b"\x0f123456789\xc3\x31\x04")
        self.assertEqual(framed_1310(b"\x00"), bytes.fromhex("0F 00 00 00 04"))

    def test_the_first_start_may_go_unanswered(self) -> None:
        dialect = PicAn1310(ScriptedLink(("0F", ""), ("0F", "0F"), *self.frames(("00", self.info))))
        self.assertEqual(dialect.ask(0.4), "0F, then version 1.5")
        identity = dialect.identify()
        self.assertEqual(
            (identity.ident, dict(identity.details)),
            (None, {"loader": "1.5", "family": "PIC18", "device id": "0054"}),
        )
        part = dialect.examine(P46K22).part
        self.assertEqual(part.flash.usable_end, 0xFC00)

    def test_a_loader_in_a_pic16_is_refused(self) -> None:
        info = self.info.replace("FF 04", "FF 02", 1)
        dialect = PicAn1310(ScriptedLink(("0F", "0F"), *self.frames(("00", info))))
        dialect.ask(0.4)
        with self.assertRaisesRegex(RefusedFault, "in a PIC16"):
            dialect.examine(P46K22)

    def test_an_echo_that_is_the_start_of_the_reply(self) -> None:
        ((sent, reply),) = self.frames(("00", self.info))
        dialect = PicAn1310(ScriptedLink(("0F", "0F"), (sent, "0F" + reply[2:])))
        self.assertEqual(dialect.ask(0.4), "0F, then version 1.5")

    def test_all_that_is_sent_come_back_is_no_answer(self) -> None:
        ((sent, _),) = self.frames(("00", ""))
        link = ScriptedLink(("0F", "0F"), (sent, sent), ("0F", ""), ("0F", ""), ("0F", ""))
        self.assertIsNone(PicAn1310(link).ask(0.4))

    def test_erase_counts_down_from_its_last_block(self) -> None:
        dialect = PicAn1310(ScriptedLink(*self.frames(("03 C0 FB 00 00 01", "03"), ("03 80 01 00 00 03", "03"))))
        units = [*P46K22.flash.units_touched(0x100, 192), *P46K22.flash.units_touched(0xFBC0, 64)]
        self.assertEqual(list(dialect.erase(P46K22.flash, units)), [1, 4])

    def test_the_block_of_the_jump_is_erased_last_and_written_first_with_a_jump_behind_it(self) -> None:
        own, more, jump = "5A" * 64, "A5" * 64, "00 EF 7E F0"
        dialect = PicAn1310(
            ScriptedLink(
                *self.frames(
                    ("03 40 00 00 00 01", "03"),  # all but the first, from the end on
                    ("04 40 00 00 00 01" + jump + "FF" * 60, "04"), ("01 40 00 00 00 04 00", jump),
                    ("03 00 00 00 00 01", "03"), ("04 00 00 00 00 01" + own, "04"),
                    ("03 40 00 00 00 01", "03"), ("04 40 00 00 00 01" + more, "04"),
                )
            )
        )  # fmt: skip
        flash = P46K22.flash
        self.assertEqual(list(dialect.erase(flash, flash.units_touched(0, 128))), [1, 2])
        block = WriteBlock(0, bytes.fromhex(own + more))
        self.assertEqual(list(dialect.write(flash, [block])), [block])

    def test_write_and_read(self) -> None:
        dialect = PicAn1310(
            ScriptedLink(
                *self.frames(
                    ("04 00 01 00 00 02" + "5A" * 128, "04"),
                    ("01 00 01 00 00 04 00", "5A 5A 5A 5A"),
                    ("01 00 01 00 00 02 00", "01 5A 5A"),
                )
            )
        )
        list(dialect.write(P46K22.flash, [WriteBlock(0x100, b"\x5a" * 128)]))
        self.assertEqual(
            [dialect.read(P46K22.flash, 0x100, 4), dialect.read(P46K22.flash, 0x100, 2)], [b"\x5a" * 4, b"\x5a" * 2]
        )


class LoaderStaysInReach(unittest.TestCase):
    """Of a loader at the end, to which only the jump at 0 leads."""

    def cut(self, fault: str, **options: Any) -> SimulatedAn1310:
        """A run that ends early, over an older program that fills the flash."""
        runner, trial = prepare("pic18f46k22", faults=(fault,) if fault else (), **options)
        chip = trial.line.chip
        assert isinstance(chip, SimulatedAn1310)
        old = BOARDS["pic18f46k22"].program("old pump", 3000, 4).pieces[0].data
        chip.flash[4:3000] = old[4:]
        trial.events.extend(runner.run())
        self.count = trial.line.to_chip_count
        return chip

    def test_at_whatever_character_an_upload_is_cut(self) -> None:
        image = {"flash": sample_for("pic18f46k22", 700)}
        self.cut("", images=image)
        for place in some(range(1, self.count, 21), 30):
            chip = self.cut(f"cut-after={place}", images=image, start=False)
            self.assertEqual(chip.reached(), chip.kind.loader[0], place)

    def test_whatever_character_is_lost(self) -> None:
        image = {"flash": sample_for("pic18f46k22", 300)}
        self.cut("", images=image)
        for place in some(range(1, self.count, 40), 14):
            for kind in ("drop-to-chip={}", "flip-to-chip={}:41", "silence-after={}"):
                chip = self.cut(kind.format(place), images=image, start=False)
                self.assertEqual(chip.reached(), chip.kind.loader[0], place)

    def test_after_every_command(self) -> None:
        part = Image("part", (Piece(0x20, bytes(range(1, 200))),))
        backup = Image("saved", (Piece(0x20, bytes(64)),))
        for name, options in (
            ("erase", {"purpose": "erase", "region": ("flash", 0, 0x80)}),
            ("erase all", {"purpose": "erase"}),
            ("an image without the jump", {"images": {"flash": part}}),
            ("a restore without the jump", {"images": {"flash": backup}, "options": WriteOptions(as_it_was=True)}),
        ):
            with self.subTest(name):
                chip = self.cut("", start=False, **options)
                self.assertEqual(chip.reached(), chip.kind.loader[0])
                self.assertNotIn("reset does not reach", " ".join(chip.violations))

    def test_an_erase_says_that_the_jump_is_put_back(self) -> None:
        trial = run("pic18f46k22", purpose="erase", region=("flash", 0, 0x40))
        notes = [event.text for event in trial.events if isinstance(event, Noted)]
        self.assertIn("the jump at 0 to the bootloader at FC00 stays", notes)
        self.assertEqual(bytes(trial.line.chip.flash[:0x40]), bytes.fromhex("00EF7EF0") + b"\xff" * 60)

    def test_a_lost_jump_is_seen_by_the_bench(self) -> None:
        chip = self.cut("", purpose="greet")
        chip.flash[:4] = b"\xff" * 4
        self.assertNotEqual(chip.reached(), chip.kind.loader[0])
        chip.flash[: chip.kind.loader[0]] = b"\xff" * chip.kind.loader[0]
        self.assertEqual(chip.reached(), chip.kind.loader[0])

    def test_configuration_words_of_a_j_part_are_left_out(self) -> None:
        image = sample_for("pic18f67j50", 700)
        image = Image("pump", (*image.pieces[:1], Piece(0x1FFF8, bytes(8))))
        trial = run("pic18f67j50", {"flash": image})
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        notes = " ".join(event.text for event in trial.events if isinstance(event, Noted))
        self.assertIn("configuration words 0001FFF8-0001FFFF left out", notes)


class OnTheBench(unittest.TestCase):
    def test_the_jump_at_0_leads_to_the_loader_and_the_own_one_is_kept(self) -> None:
        trial = run("pic18f46k22", {"flash": sample_for("pic18f46k22", 3000)})
        flash = trial.line.chip.flash
        self.assertEqual(bytes(flash[:4]), bytes.fromhex("00 EF 7E F0"))  # GOTO FC00
        self.assertEqual(bytes(flash[0xFBFC:0xFC00]), bytes.fromhex("20 EF 00 F0"))  # GOTO 0040
        self.assertIn("configuration words 00300000-00300003 left out, 4 bytes", notes(trial))
        self.assertIn("in words 0000-", notes(trial))

    def test_an_upload_that_breaks_off_leaves_a_loader_that_stays(self) -> None:
        trial = run(
            "pic18f4520", {"flash": sample_for("pic18f4520", 3000)}, faults=("silence-after=120",), compare=False
        )
        self.assertEqual((trial.end.exit_code, trial.line.chip.eeprom[-1]), (6, 0xFF))  # type: ignore[attr-defined]
        trial = run("pic18f4520", {"flash": sample_for("pic18f4520", 3000)})
        self.assertEqual((trial.end.exit_code, trial.line.chip.eeprom[-1]), (0, 0))  # type: ignore[attr-defined]

    def test_a_loader_that_measures_each_request(self) -> None:
        trial = run("pic18f67j50", {"flash": sample_for("pic18f67j50", 4000)})
        self.assertEqual(trial.end.exit_code, 0)
        self.assertIn("units", trial.step("erase").evidence)


class StrictChips(unittest.TestCase):
    def open(self, board: str, breaks: bool) -> VirtualLink:
        line = BOARDS[board].build()
        hookup = named_hookup("cap-dtr", "")
        link = VirtualLink(line, LineSettings(115200), hookup.idle_lines)
        assert hookup.enter is not None
        Driver(link, hookup).run(hookup.enter, breaks)
        link.sleep(0.02)
        link.discard()
        return link

    def say(self, link: VirtualLink, frame: bytes) -> str:
        link.write(frame)
        return link.read(300, 0.3).hex(" ").upper()

    def test_the_end_loader_stays_only_through_a_break(self) -> None:
        for breaks in (False, True):
            link = self.open("pic18f46k22", breaks)
            self.assertEqual(self.say(link, b"\x0f") == "0F", breaks)

    def test_damage_is_met_with_silence_and_the_loader_is_not_erased(self) -> None:
        link = self.open("pic18f4520", False)
        self.assertEqual(self.say(link, bytes.fromhex("0F 0F 00 02 FF 04")), "")
        self.assertEqual(self.say(link, framed_851(bytes.fromhex("03 01 00 00 00"))), "0F 0F 03 FD 04")
        self.assertIn("erase of 64 bytes at 00000", link.line.chip.violations[-1])
        self.say(link, framed_851(bytes.fromhex("02 01 00 02 00" + "11 22 33 44 55 66 77 88" * 4)))
        self.assertIn("which is not blank", link.line.chip.violations[-1])

    def test_length_zero_resets(self) -> None:
        link = self.open("pic18f4520", False)
        self.assertIn(b"feeder pump".hex(" ").upper(), self.say(link, framed_851(b"\x00\x00")))


class WithoutCode(unittest.TestCase):
    def test_configuration_words_alone_are_refused_before_a_port_is_opened(self) -> None:
        image = Image("pump", (Piece(0x300000, b"\x27\x1e"), Piece(0xF00000, b"\x01")))
        for dialect in ("pic-an1310", "pic-an851"):
            part = Catalogue.load().find("pic18f4520").speaking(dialect).first
            with self.subTest(dialect), self.assertRaises(RefusedFault) as caught:
                make_plan(part, find_dialect(dialect), {"flash": image}, WriteOptions())
            self.assertEqual(caught.exception.findings[0].key, "nothing-to-write")
            self.assertIn("configuration words", caught.exception.findings[0].evidence[0])


if __name__ == "__main__":
    unittest.main()
