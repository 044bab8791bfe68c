"""`xmodem`: characters as the documents of XMODEM and YMODEM have them, byte for byte."""

from __future__ import annotations

import unittest
from binascii import crc_hqx
from dataclasses import replace
from typing import Any

from greenstep.bench.trial import prepare, run, sample_for
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.errors import ChipRefusal, Silence
from greenstep.core.dialects.results import WriteBlock
from greenstep.core.dialects.xmodem import Xmodem
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import TalkLine, WriteOptions

from ..scripted import ScriptedLink
from .observed import notes

RESIDENT, M32U4 = (Catalogue.load().find(name).first for name in ("any", "atmega32u4"))


def blocks(data: bytes) -> list[WriteBlock]:
    return [WriteBlock(at, data[at : at + 128]) for at in range(0, len(data), 128)]


class Transfers(unittest.TestCase):
    def talk(self, *script: tuple[str, str], heard: str = "", **settings: Any) -> Xmodem:
        link = ScriptedLink(*script)
        link.waiting = bytes.fromhex(heard)
        self.addCleanup(lambda: self.assertTrue(link.finished(), "the script was not played to its end"))
        return Xmodem(link, settings)

    def test_the_call(self) -> None:
        for heard, answer in (
            ("43", "43, wants blocks with a CRC"),
            ("15", "15, wants blocks with a sum"),
            ("0D 0A 3E 0A 43", "43, wants blocks with a CRC"),
            ("43 61 6E 0A", None),
            ("", None),
        ):
            with self.subTest(heard):
                self.assertEqual(self.talk(heard=heard).ask(0.5), answer)

    def test_what_is_said_before(self) -> None:
        turns = (TalkLine("> ", 1.0, "u"), TalkLine("sure?", 1.0, "y"))
        dialect = self.talk(
            ("75", b"u\r\nsure?".hex()), ("79", "79 0D 0A 43"), heard=b"menu\r\n> ".hex(), opening=turns
        )
        self.assertEqual(dialect.ask(0.5), "43, wants blocks with a CRC")
        self.assertIsNone(self.talk(heard=b"hive scale\r\n".hex(), opening=turns).ask(0.5))

    def test_a_block_with_its_crc(self) -> None:
        dialect = self.talk(("01 01 FE" + "00" * 128 + "00 00", "06"), ("04", "15"), ("04", "06"), block="128")
        self.assertEqual(list(dialect.write(RESIDENT.flash, blocks(bytes(128)))), blocks(bytes(128)))

    def test_a_block_with_its_sum_and_its_filling(self) -> None:
        dialect = self.talk(("01 01 FE" + "02" * 100 + "FF" * 28 + "AC", "06"), ("04", "06"), pad=0xFF)
        dialect._crc = False
        list(dialect.write(RESIDENT.flash, [WriteBlock(0, b"\x02" * 100)]))

    def test_long_blocks_then_short_ones(self) -> None:
        data = bytes(1024 + 128)
        dialect = self.talk(("02 01 FE" + "00" * 1026, "06"), ("01 02 FD" + "00" * 130, "06"), ("04", "06"))
        self.assertEqual(len(list(dialect.write(RESIDENT.flash, blocks(data)))), 9)

    def test_a_refused_block_is_sent_again_and_numbers_wrap(self) -> None:
        data = bytes(128 * 257)
        script = [(f"01 {n & 255:02X} {~n & 255:02X}" + "00" * 130, "06") for n in range(1, 258)]
        script.insert(3, (script[2][0], "06"))
        script[2] = (script[2][0], "15")
        dialect = self.talk(*script, ("04", "06"), block="128")
        self.assertEqual(len(list(dialect.write(RESIDENT.flash, blocks(data)))), 257)
        self.assertEqual(dialect.retries, 1)

    def test_a_call_that_was_on_its_way_is_no_refusal(self) -> None:
        dialect = self.talk(("01 01 FE" + "00" * 130, "43 06"), ("04", "06"), heard="43 43", block="128")
        list(dialect.write(RESIDENT.flash, blocks(bytes(128))))
        self.assertEqual(dialect.retries, 0)

    def test_the_receiver_cancels(self) -> None:
        with self.assertRaises(ChipRefusal) as caught:
            list(self.talk(("01 01 FE" + "00" * 130, "18 18"), block="128").write(RESIDENT.flash, blocks(bytes(128))))
        self.assertEqual(caught.exception.answer, b"\x18\x18")

    def test_ymodem_says_name_and_size_first_and_ends_the_batch(self) -> None:
        head = (b"firmware.bin\x00128").ljust(128, b"\x00")

        guard = crc_hqx(head, 0).to_bytes(2, "big")
        dialect = self.talk(
            ("01 00 FF" + (head + guard).hex(), "06 43"), ("01 01 FE" + "00" * 130, "06"), ("04", "15"), ("04", "06 43"),
            ("01 00 FF" + "00" * 130, "06"), block="ymodem",
        )  # fmt: skip
        list(dialect.write(RESIDENT.flash, blocks(bytes(128))))

    def test_what_is_said_after(self) -> None:
        dialect = self.talk(("67 6F 0D", ""), heard=b"done\r\n> ".hex(), closing=(TalkLine("> ", 1.0, "go\r"),))
        self.assertEqual(dialect.start(0), 'told "go"')
        self.assertEqual(self.talk().start(0), "")
        with self.assertRaises(Silence):
            self.talk(closing=(TalkLine("> ", 1.0, "go"),)).start(0)


class Recipes(unittest.TestCase):
    def test_what_has_to_be_said_comes_with_the_chip(self) -> None:
        for board in ("efr32", "efm32", "w600"):
            with self.subTest(board):
                image = sample_for(board, 3000)
                trial = run(board, {"flash": image}, expect="smoke fan 0.9")
                self.assertEqual(
                    (trial.end.exit_code, trial.end.green, trial.holds(image)), (0, False, True), trial.findings
                )

    def test_the_loaders_own_judgement_of_the_file_counts(self) -> None:
        whole = sample_for("efr32", 3000).pieces[0].data
        damaged = Image("fan.gbl", (Piece(0, whole[:900] + bytes([whole[900] ^ 1]) + whole[901:]),))
        trial = run("efr32", {"flash": damaged})
        self.assertEqual((trial.end.exit_code, trial.end.green), (6, False), trial.findings)
        self.assertIn("Serial upload aborted", str(trial.findings[0]))
        runner, quiet = prepare("efr32", {"flash": sample_for("efr32", 3000)}, start=False)
        chip: Any = quiet.line.chip
        chip.kind = replace(chip.kind, done=b"", wrong=b"")
        quiet.events.extend(runner.run())
        self.assertEqual((quiet.end.exit_code, quiet.step("verify").outcome), (0, "unproven"), quiet.findings)
        self.assertIn('did not say "upload complete"', quiet.step("verify").evidence)

    def test_a_call_behind_a_prompt_on_its_line_is_taken(self) -> None:
        runner, trial = prepare("smoke-fan", {"flash": sample_for("smoke-fan", 900)}, start=False)
        chip: Any = trial.line.chip
        chip.kind = replace(chip.kind, begun=b"u\r\nready for a file> ")
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.exit_code, trial.holds(sample_for("smoke-fan", 900))), (0, True), trial.findings)

    def test_a_file_of_another_kind_is_refused(self) -> None:
        for board, said in (("efr32", ".gbl file"), ("w600", ".fls or .img file")):
            trial = run(board, {"flash": sample_for("efm32", 900)})
            self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "not-signed"))
            self.assertIn(said, trial.findings[0].cause)


class Settings(unittest.TestCase):
    told: tuple[TalkLine, ...] = (TalkLine("u uploads", 5.0, "u"),)

    def options(self, **settings: Any) -> WriteOptions:
        return WriteOptions(settings={"opening": self.told, "closing": (TalkLine("g goes", 5.0, "g"),), **settings})

    def test_long_blocks_give_way_to_short_ones(self) -> None:
        trial = run("xmodem-crc", {"flash": sample_for("xmodem-crc", 3000)})
        self.assertEqual(trial.end.exit_code, 0)
        self.assertIn("3 exchanges repeated", notes(trial))
        trial = run("xmodem-crc", {"flash": sample_for("xmodem-crc", 3000)}, options=self.options(block="128"))
        self.assertNotIn("repeated", notes(trial))

    def test_the_last_block_is_filled(self) -> None:
        for pad in (0x1A, 0xFF):
            trial = run("smoke-fan", {"flash": sample_for("smoke-fan", 3000)}, options=self.options(pad=pad))
            self.assertEqual(set(trial.line.chip.flash[3000:3072]), {pad})

    def test_gaps_are_filled_and_told(self) -> None:
        image = Image("fan.hex", (Piece(0x100, b"abc" * 50), Piece(0x300, b"xyz" * 50)))
        trial = run("smoke-fan", {"flash": image}, start=False, options=self.options())
        self.assertIn("1 gap filled with FF", notes(trial))
        self.assertIn("sent from 0100 on", notes(trial))
        self.assertEqual(bytes(trial.line.chip.flash[0x200:0x203]), b"xyz")

    def test_it_is_said_that_nothing_is_read_back(self) -> None:
        trial = run("smoke-fan", {"flash": sample_for("smoke-fan", 3000)})
        self.assertIn("cannot be read back", trial.step("verify").evidence)

    def test_what_only_reading_back_could_answer_is_refused(self) -> None:
        for purpose in ("verify", "backup", "erase"):
            trial = run(
                "smoke-fan", {"flash": sample_for("smoke-fan", 300)} if purpose == "verify" else None, purpose=purpose
            )
            self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, f"cannot-{purpose}"))
            self.assertIsNone(trial.link)

    def test_the_sender_cancels_too(self) -> None:
        trial = run(
            "smoke-fan", purpose="greet", hookup=named_hookup("by-hand", ""), link_options={"on_for_s": 0.005}
        )
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        assert trial.link is not None
        self.assertGreaterEqual(trial.line.to_chip_count, 4)  # 'u' and CAN CAN CAN


if __name__ == "__main__":
    unittest.main()
