"""Uploads with the installed command to boards served over RFC 2217 and on ptys."""

from __future__ import annotations

import unittest

from greenstep.bench.samples import stm32_image
from greenstep.core.image import Image, Piece

from .support import Bench, ToolTest

PROBE = ("--chip", "stm32f072rb", "--hookup", "dtr-reset-rts-boot")


class OverTheNetwork(ToolTest):
    def holds(self, bench: Bench, memory: str, image: Image, base: int) -> bool:
        content = bench.close()[memory]
        return all(content[p.address - base : p.end - base] == p.data for p in image.pieces)

    def test_options_alone_to_green(self) -> None:
        bench = self.bench("brood-probe")
        run = self.run_tool("upload", "brood-probe.hex", *PROBE, "--port", bench.port("brood-probe"), "--json")
        self.assertEqual(run.status, 0, run.text)
        self.assertTrue(run.event("run-ended")["green"])
        steps = [event["step"] for event in run.events if event["event"] == "step-ended"]
        self.assertEqual(
            steps, ["image", "port", "enter", "sync", "chip", "compare", "erase", "write", "verify", "start"]
        )
        self.assertEqual(run.event("step-ended", step="verify")["figures"]["bytes"], 5000)
        self.assertEqual(run.event("step-ended", step="chip")["figures"]["part"], "stm32f07x")
        self.assertTrue(self.holds(bench, "brood-probe.flash", self.probe, 0x08000000))

    def test_the_ladder_that_a_person_sees(self) -> None:
        bench = self.bench("hive-scale")
        run = self.run_tool(
            "upload", "hive-scale.hex", "--chip", "atmega328p", "--port", bench.port("hive-scale"),
            "--expect", "hive scale 2.4",
        )  # fmt: skip
        self.assertEqual(run.status, 0, run.text)
        for said in (
            " ● image    hive-scale.hex: 4,000 bytes in 1 piece, 0000-0F9F, crc32 ",
            " ● enter    reset pulsed by DTR",
            " ● sync     14 10 at ",
            " ● chip     signature 1E 95 0F, ATmega328P; 32,256 bytes free below the bootloader",
            " ● write    32 pages of 128",
            " ● verify   read back, 4,000 bytes equal",
            ' ● start    heard "hive scale 2.4" after',
            " green in ",
        ):
            self.assertIn(said, run.out)
        self.assertNotIn("\x1b", run.out)
        self.assertTrue(self.holds(bench, "hive-scale.flash", self.scale, 0))

    def test_a_board_of_the_project_file(self) -> None:
        bench = self.bench("brood-probe")
        self.project(
            f"""
            [board.brood-probe]
            chip = "stm32f072"
            port = "{bench.port("brood-probe")}"
            images = ["brood-probe.hex"]
            expect = "brood probe 1.7"
            [board.brood-probe.hookup]
            reset = {{ line = "dtr", held = "asserted" }}
            boot = {{ line = "rts", selected = "released" }}
            """
        )
        for words in (("upload", "brood-probe"), ("verify", "brood-probe"), ("start",), ("greet",)):
            run = self.run_tool(*words)
            self.assertEqual(run.status, 0, run.text)
            self.assertIn("green in", run.out)
        self.assertIn("unique id", run.out)
        self.assertTrue(self.holds(bench, "brood-probe.flash", self.probe, 0x08000000))

    def test_a_raw_file_at_an_address_and_an_eeprom(self) -> None:
        bench = self.bench("hive-scale")
        (self.folder / "scale.bin").write_bytes(self.scale.pieces[0].data)
        (self.folder / "settings.bin").write_bytes(b"hive 7, north field")
        run = self.run_tool(
            "upload", "scale.bin", "at", "0", "--eeprom", "settings.bin at 0x20", "--chip", "atmega328p",
            "--port", bench.port("hive-scale"),
        )  # fmt: skip
        self.assertEqual(run.status, 0, run.text)
        memories = bench.close()
        self.assertEqual(memories["hive-scale.flash"][:4000], self.scale.pieces[0].data)
        self.assertEqual(memories["hive-scale.eeprom"][0x20:0x33], b"hive 7, north field")

    def test_not_verified_is_said(self) -> None:
        bench = self.bench("brood-probe")
        run = self.run_tool(
            "upload", "brood-probe.hex", *PROBE, "--port", bench.port("brood-probe"), "--no-verify", "--no-start"
        )
        self.assertEqual(run.status, 0)
        self.assertIn(" ◐ verify   not asked for", run.out)
        self.assertNotIn("green in", run.out)

    def test_several_files_and_one_that_clashes(self) -> None:
        bench = self.bench("brood-probe")
        pages = Image("pages", (Piece(0x08004000, b"bees" * 100),))
        self.write_hex("pages.hex", pages)
        port = ("--port", bench.port("brood-probe"))
        run = self.run_tool("upload", "brood-probe.hex", "pages.hex", *PROBE, *port)
        self.assertEqual(run.status, 0, run.text)
        self.write_hex("clash.hex", Image("clash", (Piece(0x08000004, b"\x00\x01"),)))
        clash = self.run_tool("upload", "brood-probe.hex", "clash.hex", *PROBE, *port)
        self.assertEqual(clash.status, 5)
        self.assertIn("clash.hex: byte 00 at 08000004, where brood-probe.hex has C1", clash.text)
        self.assertTrue(self.holds(bench, "brood-probe.flash", pages, 0x08000000))

    def test_faults_have_their_status_and_finding(self) -> None:
        cases = {
            "locked": (5, "the chip is locked"),
            "echo": (4, "every byte sent comes straight back"),
            "no-boot": (4, "the application answered, not the bootloader"),
            "worn=0x08000200": (7, "worn flash"),
            "restart-after=2000": (6, "in the middle"),
        }
        for fault, (status, said) in cases.items():
            with self.subTest(fault):
                bench = self.bench("brood-probe", "--fault", fault)
                run = self.run_tool("upload", "brood-probe.hex", *PROBE, "--port", bench.port("brood-probe"))
                self.assertEqual(run.status, status, run.text)
                self.assertIn(said, run.out)
                self.assertIn("try", run.out)
                self.assertIn("✗", run.out)

    def test_the_expected_text_decides(self) -> None:
        bench = self.bench("brood-probe")
        run = self.run_tool(
            "upload", "brood-probe.hex", *PROBE, "--port", bench.port("brood-probe"), "--expect", "frame lift",
            "--expect-within", "1", "--json",
        )  # fmt: skip
        self.assertEqual(run.status, 8)
        self.assertEqual(run.event("found")["findings"][0]["key"], "other-text")
        self.assertEqual(run.event("step-ended", step="verify")["outcome"], "green")

    def test_the_other_kinds_of_chip(self) -> None:
        names = ("stm32l053", "stm32g071", "atmega1284p")
        bench = self.bench(*names)
        for name in names:
            board = bench.boards[name]
            stm32 = name.startswith("stm32")
            if stm32:
                fill = 0 if name == "stm32l053" else 0xFF
                self.write_hex("kind.hex", stm32_image("brood probe 1.7 ready", 1500, 4096, fill=fill))
            image = "kind.hex" if stm32 else "hive-scale.hex"
            with self.subTest(name):
                run = self.run_tool(
                    "upload", image, "--chip", name, "--port", board["port"], "--hookup", board["hookup"],
                    "--baud", str(board["baud"]), "--expect", "brood probe 1.7" if stm32 else "hive scale 2.4",
                )  # fmt: skip
                self.assertEqual(run.status, 0, run.text)
                self.assertIn("green in", run.out)


class OnAPty(ToolTest):
    def test_by_hand(self) -> None:
        for board, chip, image, base in (
            ("brood-probe", "stm32f072", self.probe, 0x08000000),
            ("hive-scale", "atmega328p", self.scale, 0),
        ):
            with self.subTest(board):
                bench = self.served(board, "--pty", "--hands", "1.5")
                run = self.run_tool(
                    "upload", f"{board}.hex", "--chip", chip, "--port", bench.port(board), "--hookup", "by-hand",
                    "--patience", "10",
                )  # fmt: skip
                self.assertEqual(run.status, 0, run.text)
                self.assertIn("no DTR and RTS here", run.out)
                content = bench.close()[f"{board}.flash"]
                self.assertTrue(all(content[p.address - base : p.end - base] == p.data for p in image.pieces))

    def test_a_hookup_with_lines_goes_on_by_hand(self) -> None:
        bench = self.served("brood-probe", "--pty", "--hands", "2")
        run = self.run_tool("greet", *PROBE, "--port", bench.port("brood-probe"), "--patience", "10")
        self.assertEqual(run.status, 0, run.text)
        self.assertIn("this port has no DTR and RTS: continuing by hand", run.out)
        self.assertIn("set BOOT0 high", run.out)

    def test_nobody_comes(self) -> None:
        bench = self.served("brood-probe", "--pty", "--hands", "60")
        run = self.run_tool(
            "upload", "brood-probe.hex", "--chip", "stm32f072", "--port", bench.port("brood-probe"),
            "--hookup", "by-hand", "--patience", "1",
        )  # fmt: skip
        self.assertEqual(run.status, 4, run.text)
        self.assertIn("nothing on the chip was changed", run.out)


if __name__ == "__main__":
    unittest.main()
