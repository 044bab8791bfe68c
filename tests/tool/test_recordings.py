"""`--trace` of every command that opens a port, and what `trace show` makes of the files."""

from __future__ import annotations

import unittest

from .support import ToolTest

PNG, SVG = b"\x89PNG\r\n\x1a\n", b"<?xml"


class Recordings(ToolTest):
    def setUp(self) -> None:
        super().setUp()
        bench = self.bench("brood-probe")
        self.there = ("--chip", "stm32f072", "--port", bench.port("brood-probe"), "--hookup", "dtr-reset-rts-boot")

    def test_every_command_that_opens_a_port_records(self) -> None:
        cases = (
            (("greet",), "get id"),
            (("start", "--expect", "brood probe"), "brood probe"),
            (("hookup", "try", "--of", "leave"), "brood probe"),
            (("listen", "--reset", "--seconds", "0.5", "--send", "hello"), "hello"),
            (("upload", "brood-probe.hex", "--expect", "brood probe 1.7"), "write memory"),
            (("verify", "brood-probe.hex"), "read memory"),
        )
        for number, (command, said) in enumerate(cases):
            with self.subTest(command):
                run = self.run_tool(*command, *self.there, "--trace", f"{number}.vcd")
                self.assertEqual(run.status, 0, run.text)
                shown = self.run_tool("trace", "show", f"{number}.vcd")
                self.assertEqual(shown.status, 0, shown.text)
                self.assertIn(said, shown.out)
                self.assertIn("stm32f072", shown.out.splitlines()[0])

    def test_shown_whole_joined_as_json_and_drawn(self) -> None:
        self.run_tool("upload", "brood-probe.hex", *self.there, "--trace", "probe.vcd")
        joined = self.run_tool("trace", "show", "probe.vcd")
        self.assertRegex(joined.out, r"(?m)^ +\d+\.\d{3} +[\d.]+ m?s  \d+ x write memory +08000000-")
        self.assertIn("08000000-", joined.out)
        every = self.run_tool("trace", "show", "probe.vcd", "--all")
        self.assertGreater(len(every.out.splitlines()), len(joined.out.splitlines()) + 20)
        rows = self.run_tool("trace", "show", "probe.vcd", "--json")
        trace = rows.event("trace")
        self.assertEqual(trace["notes"]["dialect"], "stm32-rom")
        parts = sum(trace[key] for key in trace if key.endswith("_s") and key not in ("total_s", "turn_s"))
        self.assertAlmostEqual(parts, trace["total_s"], delta=0.03 * trace["total_s"])
        self.assertTrue(rows.event("exchange", what="extended erase")["detail"].startswith("3 units"))
        for name, magic in (("a.png", PNG),):
            drawn = self.run_tool("trace", "show", "probe.vcd", "--save", name)
            self.assertIn(f"saved {name}", drawn.out)
            self.assertTrue((self.folder / name).read_bytes().startswith(magic))

    def test_an_interrupted_upload_is_recorded_to_where_it_came(self) -> None:
        there = [word + "&gone-after=0.6" if word.startswith("bench:") else word for word in self.there]
        upload = self.run_tool("upload", "brood-probe.hex", *there, "--trace", "cut.vcd")
        self.assertEqual((upload.status, "✗ write" in upload.out), (3, True), upload.text)
        self.assertIn("write memory", self.run_tool("trace", "show", "cut.vcd").out)

    def test_decoded_as_another_dialect_or_not_at_all(self) -> None:
        self.run_tool("greet", *self.there, "--trace", "probe.vcd")
        self.assertIn("unknown", self.run_tool("trace", "show", "probe.vcd", "--dialect", "avr-061").out)
        wrong = self.run_tool("trace", "show", "probe.vcd", "--dialect", "avr-v9")
        self.assertEqual((wrong.status, "no dialect is called" in wrong.err), (2, True))
        text = (self.folder / "probe.vcd").read_text()
        (self.folder / "far.vcd").write_text(text.replace("dialect: stm32-rom", "dialect: of-another-package"))
        self.assertIn("sent 7F, heard 79", self.run_tool("trace", "show", "far.vcd").out)

    def test_what_cannot_be_kept_or_read(self) -> None:
        run = self.run_tool("greet", *self.there, "--trace", "/nowhere/probe.vcd")
        self.assertEqual((run.status, "cannot be written" in run.text), (2, True), run.text)
        for name, said in (("brood-probe.hex", "not a value change dump"), ("none.vcd", "there is no file")):
            run = self.run_tool("trace", "show", name)
            self.assertEqual((run.status, said in run.err), (2, True), run.err)


class Settings(ToolTest):
    def test_wrong_tables_are_named_with_what_is_right(self) -> None:
        for line, said in (
            ('talk = [ { hear = "x" } ]', 'expect = "name?"'),
            ('talk = [ { send = "x", secret = "Y" } ]', 'expect = "name?"'),
            ('talk = [ { expect = "x", within = 0 } ]', 'expect = "name?"'),
            ("talk = []\nline_end = 'enter'", '"crlf" or "lf"'),
            ("port = { remembered = 7 }", "remembered"),
            ("port = { place = 'left' }", "remembered"),
        ):
            with self.subTest(line):
                self.project(f'[board.hive]\nchip = "avr"\n{line}\n')
                run = self.run_tool("greet", "hive")
                self.assertEqual((run.status, said in run.err), (2, True), run.err)


if __name__ == "__main__":
    unittest.main()
