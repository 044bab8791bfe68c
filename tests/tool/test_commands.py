"""The commands that look and explain: version, help, plan, bench, demo."""

from __future__ import annotations

import unittest

from greenstep import __version__
from greenstep.core.hookup.circuits import NAMED

from .support import ToolTest


class Looking(ToolTest):
    def test_version_and_help(self) -> None:
        self.assertEqual(self.run_tool("--version").out, f"greenstep {__version__}\n")
        top = self.run_tool("--help")
        self.assertEqual(top.status, 0)
        places = [top.out.index(f"\n  {name} ") for name in ("ports", "greet", "plan", "upload", "bench", "demo")]
        self.assertEqual(places, sorted(places))
        for name in ("ports", "greet", "plan", "upload", "verify", "start", "bench", "demo"):
            with self.subTest(name):
                run = self.run_tool(name, "--help")
                self.assertEqual(run.status, 0)
                self.assertIn(f"greenstep {name}", run.out)

    def test_help_names_every_hookup(self) -> None:
        shown = self.run_tool("upload", "--help").out
        self.assertEqual([name for name in NAMED if name not in shown], [])

    def test_plan_without_a_port(self) -> None:
        run = self.run_tool("plan", "brood-probe.hex", "--chip", "stm32f072rb")
        self.assertEqual(run.status, 0, run.text)
        for said in (
            "erase   08000000-080017FF   3 units, 6 KiB",
            "18 blocks, 4,488 bytes",
            "verify  5,000 bytes",
            "about ",
        ):
            self.assertIn(said, run.out)
        self.assertNotIn("--ask reads it", run.out)
        self.assertIn("--ask reads it", self.run_tool("plan", "brood-probe.hex", "--chip", "stm32f072").out)

    def test_plan_as_json(self) -> None:
        plan = self.run_tool("plan", "hive-scale.hex", "--chip", "atmega328p", "--json").event("plan")
        memory = plan["memories"][0]
        self.assertEqual(memory["erase_units"], [])
        self.assertEqual(len(memory["write_blocks"]), 32)
        self.assertEqual({block["bytes"] for block in memory["write_blocks"]}, {128})
        self.assertGreater(plan["seconds"], 0.5)

    def test_plan_refuses_what_upload_would(self) -> None:
        self.assertEqual(self.run_tool("plan", "hive-scale.hex", "--chip", "stm32f072").status, 5)
        keep = self.run_tool("plan", "brood-probe.hex", "--chip", "stm32f072", "--keep", "0x08000400:0x10")
        self.assertEqual((keep.status, "is to be kept" in keep.text), (5, True))

    def test_plan_asks_the_chip(self) -> None:
        bench = self.bench("brood-probe")
        run = self.run_tool(
            "plan", "brood-probe.hex", "--chip", "stm32", "--ask", "--port", bench.port("brood-probe"),
            "--hookup", "dtr-reset-rts-boot",
        )  # fmt: skip
        self.assertEqual(run.status, 0, run.text)
        self.assertIn("STM32F07x, 128 KiB flash", run.out)

    def test_bench_lists_boards_and_faults(self) -> None:
        run = self.run_tool("bench", "--list")
        self.assertEqual(run.status, 0)
        for word in ("brood-probe", "hive-scale", "stm32l053", "atmega1284p", "drop-to-chip=N", "locked"):
            self.assertIn(word, run.out)

    def test_bench_takes_a_port_number_once(self) -> None:
        bench = self.served("brood-probe")
        number = bench.port("brood-probe").rpartition(":")[2]
        again = self.run_tool("bench", "hive-scale", "--tcp-port", number)
        self.assertEqual(again.status, 2, again.text)
        self.assertIn(f"TCP port {number} cannot be served", again.text)

    def test_demo_is_green_and_then_finds_the_jumper(self) -> None:
        run = self.run_tool("demo")
        self.assertEqual(run.status, 0, run.text)
        green, _, fault = run.out.partition("The brood-probe again")
        self.assertIn("green in", green)
        self.assertIn("the boot pin was not set at reset", fault)
        self.assertIn("nothing on the chip was changed", fault)


class Signs(ToolTest):
    def test_a_terminal_without_unicode_gets_plain_signs(self) -> None:
        run = self.run_tool(
            "greet", "--chip", "stm32", "--port", "/dev/null", PYTHONIOENCODING="ascii", PYTHONUTF8="0"
        )
        self.assertEqual(run.status, 3)
        self.assertIn(" x port ", run.out)
        self.assertNotIn("●", run.out)


if __name__ == "__main__":
    unittest.main()
