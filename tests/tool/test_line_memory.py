"""What is learnt of a board's line: its highest rate and its hookup, used and shown again."""

from __future__ import annotations

import sqlite3
import unittest

from greenstep.bench.trial import sample_for

from .support import ToolTest

PORT = "bench:brood-probe?fault=chip-limit%3D460800"


class Learnt(ToolTest):
    def setUp(self) -> None:
        super().setUp()
        self.project(
            f'[board.brood-probe]\nchip = "stm32f072"\nport = "{PORT}"\nbaud = "fastest"\n'
            'hookup = "dtr-reset-rts-boot"\nimages = ["brood-probe.hex"]\n'
        )

    def test_it_is_found_once_and_shown_everywhere(self) -> None:
        before = self.run_tool("plan", "brood-probe")
        self.assertIn("at 921600, if adapter, wires and chip carry it: --baud fastest", before.out)
        first = self.run_tool("upload", "brood-probe")
        self.assertEqual(first.status, 0, first.text)
        self.assertRegex(first.out, r"now at 460800 baud: 4,\d+ characters out and 4,\d+ back without a flaw")
        self.assertIn(", at 460800 baud.", first.out)
        again = self.run_tool("upload", "brood-probe")
        self.assertIn("at 460800 baud, found before", again.out)
        self.assertIn("at 460800, found for this line", self.run_tool("plan", "brood-probe").out)
        self.assertIn("460800 would save", self.run_tool("rates", "8M", "brood-probe").out)
        self.assertRegex(self.run_tool("boards").out, "fastest; its line carries 460800")
        planned = self.run_tool("plan", "brood-probe", "--json").event("plan")
        self.assertEqual((planned["baud"], planned["faster_baud"]), (115200, 460800))
        self.assertLess(planned["faster_seconds"], planned["seconds"])
        rows = self.run_tool("journal", "--json").events
        self.assertEqual({row["line"] for row in rows}, {"460800 8E1"})

    def test_a_plan_speaks_of_the_line_that_is_meant(self) -> None:
        """Not of another board's with the same chip, nor of another port's; and of no rate that a loader does not have."""
        self.assertEqual(self.run_tool("greet", "--chip", "stm32f072", "--port", PORT, "--baud", "fastest").status, 0)
        there = ("plan", "brood-probe.hex", "--chip", "stm32f072")
        self.assertIn("at 460800, found for this line", self.run_tool(*there, "--port", PORT).out)
        for port in ((), ("--port", "bench:stm32f072")):
            self.assertIn("at 921600, if adapter", self.run_tool(*there, *port).out)
        self.write_hex("feeder.hex", sample_for("msp430fr5969", 3000))
        self.assertNotIn("fastest", self.run_tool("plan", "feeder.hex", "--chip", "msp430fr5969").out)
        self.write_hex("fan.hex", sample_for("mspm0l1306", 3000))
        self.assertIn("at 1000000, if adapter", self.run_tool("plan", "fan.hex", "--chip", "mspm0l1306").out)

    def test_a_number_still_means_that_number(self) -> None:
        done = self.run_tool("upload", "brood-probe", "--baud", "57600")
        self.assertEqual(done.status, 0, done.text)
        self.assertNotIn("460800 baud", done.out)
        wrong = self.run_tool("upload", "brood-probe", GREENSTEP_BAUD="quickest")
        self.assertEqual(wrong.status, 2, wrong.text)

    def test_a_rate_that_was_found_long_ago_is_looked_for_anew(self) -> None:
        self.assertEqual(self.run_tool("upload", "brood-probe").status, 0)
        with sqlite3.connect(self.folder / "lines.sqlite") as file:
            file.execute("UPDATE line SET baud_at = '2026-01-01T08:00:00+00:00', baud = 230400")
        self.assertIn("now at 460800 baud", self.run_tool("verify", "brood-probe").out)
        with sqlite3.connect(self.folder / "lines.sqlite") as file:
            file.execute("UPDATE line SET baud = 230400")
        self.assertIn("at 230400 baud, found before", self.run_tool("verify", "brood-probe").out)
        self.assertIn("now at 460800 baud", self.run_tool("greet", "brood-probe").out)

    def test_a_file_that_cannot_be_read_only_costs_the_time_to_look(self) -> None:
        (self.folder / "lines.sqlite").write_bytes(b"no database" * 100)
        done = self.run_tool("upload", "brood-probe")
        self.assertEqual(done.status, 0, done.text)
        self.assertIn("now at 460800 baud", done.out)
        self.assertIn("the rate is not remembered", done.text)

    def test_no_journal_remembers_nothing(self) -> None:
        for _ in range(2):
            done = self.run_tool("verify", "brood-probe", GREENSTEP_JOURNAL="none")
            self.assertIn("now at 460800 baud", done.out)
        self.assertFalse((self.folder / "lines.sqlite").exists())

    def test_init_offers_what_is_known(self) -> None:
        port = ("--port", "bench:hive-scale")
        self.assertEqual(
            self.run_tool("upload", "hive-scale.hex", "--chip", "atmega328p", "--hookup", "cap-dtr", *port).status, 0
        )
        begun = self.run_tool("init", "scale", "--chip", "atmega328p", *port, "--project", "new.toml")
        self.assertIn("entered by cap-dtr", begun.out)
        self.assertIn('hookup = "cap-dtr"', (self.folder / "new.toml").read_text())
        self.assertEqual(self.run_tool("greet", "brood-probe").status, 0)
        begun = self.run_tool("init", "probe", "--chip", "stm32f072", "--port", PORT, "--project", "new.toml")
        self.assertIn("its line carried 460800 baud", begun.out)
        self.assertIn('baud = "fastest" uses that rate', begun.out)

    def test_boards_say_how_they_were_entered(self) -> None:
        self.project(
            f'[board.probe]\nchip = "stm32f072"\nport = "{PORT}&hands=3&lines=none"\nhookup = "by-hand"\n'
            '[board.scale]\nchip = "atmega328p"\nport = "bench:hive-scale?circuit=cap-rts"\n'
        )
        for board, more in (("probe", ()), ("scale", ("--hookup", "cap-rts"))):
            self.assertEqual(self.run_tool("greet", board, *more).status, 0)
        said = self.run_tool("boards").out
        self.assertRegex(said, r"probe .* by-hand   115200 baud; last entered by hand in [34]\.\d s")
        self.assertRegex(said, "scale .* cap-dtr   115200 baud; last entered by cap-rts")
        known = self.run_tool("boards", "--json").events[1]["known"]
        self.assertEqual(known, ["last entered by cap-rts"])

    def test_a_loader_with_one_rate_says_so(self) -> None:
        done = self.run_tool(
            "upload", "hive-scale.hex", "--chip", "atmega328p", "--port", "bench:hive-scale", "--baud", "fastest"
        )
        self.assertEqual(done.status, 0, done.text)
        self.assertIn("its loader answers at one rate: 115200 baud", done.out)


if __name__ == "__main__":
    unittest.main()
