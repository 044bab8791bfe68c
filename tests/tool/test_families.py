"""The apiary's boards, one of each family, by the installed command over RFC 2217; and what is done without an image."""

from __future__ import annotations

import shutil
import unittest
from pathlib import Path

from greenstep.bench.boards import APIARY
from greenstep.core.dialects.registry import dialect_names

from .support import ToolTest

EXAMPLE = Path(__file__).parents[2] / "examples" / "apiary"
PROBE = ("--chip", "stm32f072", "--hookup", "dtr-reset-rts-boot")


class TheApiary(ToolTest):
    def test_every_board_of_the_example_climbs_to_green(self) -> None:
        bench = self.bench(*APIARY)
        shutil.copytree(EXAMPLE / "images", self.folder / "images")
        text = (EXAMPLE / "greenstep.toml").read_text("utf-8")
        for board in APIARY:
            text = text.replace(f'"bench:{board}"', f'"{bench.port(board)}"')
        self.project(text)
        listed = self.run_tool("boards")
        self.assertEqual(listed.status, 0, listed.text)
        self.assertNotIn("✗", listed.out)
        for board in APIARY:
            with self.subTest(board):
                run = self.run_tool("upload", board)
                self.assertEqual(run.status, 0, run.text)
                self.assertIn(f": {board} {'was given' if board == 'smoke-fan' else 'runs'} ", run.out)
                self.assertIn(f'heard "{" ".join(board.split("-")[:2])} ', run.out)
        said = self.run_tool("plan", "apiary-gateway").out
        self.assertIn("piece   00290000", said)
        content = bench.close()
        self.assertEqual(content["apiary-gateway.flash"][0x290000:0x290006], b"<html>")
        self.assertEqual(content["entrance-counter.flash"][0x1C:0x20], bytes.fromhex("7678FFEF"))

    def test_a_board_that_is_its_own_usb_device(self) -> None:
        bench = self.bench("atmega32u4")
        run = self.run_tool(
            "upload",
            "hive-scale.hex",
            "--chip",
            "atmega32u4",
            "--port",
            bench.port("atmega32u4"),
            "--expect",
            "hive scale 2.4",
        )
        self.assertEqual(run.status, 0, run.text)
        self.assertIn("touched, gone and come back", run.out)
        content = bench.close()["atmega32u4.flash"]
        self.assertTrue(all(content[p.address : p.end] == p.data for p in self.scale.pieces))

    def test_a_menu_by_options_alone(self) -> None:
        bench = self.bench("smoke-fan")
        (self.folder / "fan.bin").write_bytes((EXAMPLE / "images" / "smoke-fan.bin").read_bytes())
        reach = ("--chip", "any", "--port", bench.port("smoke-fan"), "--hookup", "dtr-reset-rts-boot")
        run = self.run_tool(
            "upload", "fan.bin", *reach, "--set", 'opening=[{ expect = "u uploads", send = "u" }]',
            "--set", 'closing=[{ expect = "g goes", send = "g" }]', "--set", "pad=0xFF", "--expect", "smoke fan 0.9",
        )  # fmt: skip
        self.assertEqual(run.status, 0, run.text)
        self.assertIn("cannot be read back", run.out)
        for wrong, said in (
            ("pad=honey", "pad is 'honey'"), ("block=7", "write auto, 128, 1024, ymodem"), ("honey=1", "has no setting 'honey'"),
            ("honey", "write NAME=VALUE"), ("opening=[{", "on one line"),
        ):  # fmt: skip
            refused = self.run_tool("upload", "fan.bin", *reach, "--set", wrong)
            self.assertEqual(refused.status, 2, refused.text)
            self.assertIn(said, refused.text)


class WhoIsThere(ToolTest):
    def test_the_dialect_is_found(self) -> None:
        bench = self.bench("feeder-pump", "rain-gauge")
        for board, hookup, found in (
            ("feeder-pump", "cap-dtr", "--chip pic18 --hookup cap-dtr"),
            ("rain-gauge", "cross-pair", "ESP8266"),
        ):
            with self.subTest(board):
                run = self.run_tool("greet", "--any", "--port", bench.port(board), "--hookup", hookup)
                self.assertEqual(run.status, 0, run.text)
                self.assertIn(found, run.out)

    def test_chips_are_listed_and_searched(self) -> None:
        run = self.run_tool("chips")
        self.assertEqual(run.status, 0)
        self.assertEqual(len([line for line in run.out.splitlines() if ": " in line]), len(dialect_names()))
        self.assertIn("atmega2560", self.run_tool("chips", "avr-068").out)
        self.assertIn("each block is acknowledged", self.run_tool("chips", "xmodem").out)
        self.assertIn("lpc1769", self.run_tool("chips", "26113F37").out)
        found = self.run_tool("chips", "mega2560", "--json").events
        self.assertEqual([(event["chip"], event["ident"]) for event in found], [("atmega2560", "1E9801")])
        self.assertEqual(self.run_tool("chips", "honeycomb").status, 2)

    def test_what_is_not_sure_of_a_family_is_told_with_a_trial(self) -> None:
        shown = self.run_tool("chips", "stm8-um0560").out
        for said in ("not sure   reply mode", "try      greet an STM8L", "as taken here"):
            self.assertIn(said, shown)


class WithoutAnImage(ToolTest):
    def test_backup_erase_lock_unlock(self) -> None:
        bench = self.bench("brood-probe")
        reach = (*PROBE, "--port", bench.port("brood-probe"))
        saved = self.run_tool("backup", *reach, "--from", "0x08000100", "--size", "700", "--save", "held.bin")
        self.assertEqual(saved.status, 0, saved.text)
        self.assertIn("700 bytes, read in two ways and equal", saved.out)
        self.assertIn("saved as held.bin", saved.out)
        again = self.run_tool("backup", *reach, "--save", "held.bin")
        self.assertEqual((again.status, len((self.folder / "held.bin").read_bytes())), (2, 700))
        self.assertIn("--replace", again.text)
        asked = self.run_tool("erase", *reach)
        self.assertEqual(asked.status, 2)
        self.assertIn("say so: --yes", asked.text)
        odd = self.run_tool("erase", *reach, "--yes", "--from", "0x08000000", "--size", "100")
        self.assertEqual(odd.status, 5, odd.text)
        self.assertIn("--from 0x8000000 --size 0x800", odd.text)
        erased = self.run_tool("erase", *reach, "--yes", "--from", "0x08000000", "--size", "0x1000")
        self.assertEqual(erased.status, 0, erased.text)
        self.assertIn("read back, 4,096 bytes blank", erased.out)
        locked = self.run_tool("lock", *reach)
        self.assertEqual(locked.status, 0, locked.text)
        self.assertIn("entered again, 1F after the command", locked.out)
        self.assertEqual(self.run_tool("backup", *reach, "--save", "more.bin").status, 5)
        self.assertFalse((self.folder / "more.bin").exists())
        opened = self.run_tool("unlock", *reach, "--yes")
        self.assertEqual(opened.status, 0, opened.text)
        self.assertIn("it can be read", opened.out)
        self.assertEqual(self.run_tool("unlock", *reach, "--yes").status, 5)
        self.assertEqual(set(bench.close()["brood-probe.flash"]), {0xFF})

    def test_what_a_dialect_cannot(self) -> None:
        run = self.run_tool("lock", "--chip", "atmega328p", "--port", "nowhere")
        self.assertEqual(run.status, 5)
        self.assertIn("these can: stm32-rom", run.text)
        told = self.run_tool("lock", "--chip", "atmega328p", "--port", "nowhere", "--json")
        self.assertEqual(told.event("fault")["findings"][0]["key"], "cannot-lock")
        self.assertIn(
            "these can: lpc-isp, nxp-mcu, stm32-rom",
            self.run_tool("unlock", "--chip", "esp32", "--port", "nowhere").text,
        )

    def test_an_eeprom_is_saved(self) -> None:
        bench = self.bench("hive-scale")
        run = self.run_tool(
            "backup",
            "--chip",
            "atmega328p",
            "--port",
            bench.port("hive-scale"),
            "--memory",
            "eeprom",
            "--save",
            "e.bin",
        )
        self.assertEqual(run.status, 0, run.text)
        self.assertEqual((self.folder / "e.bin").read_bytes(), b"\xff" * 1024)
        self.assertEqual(
            self.run_tool("backup", *PROBE, "--port", "x", "--memory", "eeprom", "--save", "f.bin").status, 3
        )


if __name__ == "__main__":
    unittest.main()
