"""What the two readers of events make of them."""

from __future__ import annotations

import io
import json
import unittest

from greenstep.cli.json_view import JsonView
from greenstep.cli.run_view import LadderView
from greenstep.core.errors import Finding
from greenstep.core.events import (
    Event,
    Found,
    HandsWanted,
    Noted,
    RunEnded,
    RunStarted,
    StepAdvanced,
    StepEnded,
    StepStarted,
)

FINDINGS = (
    Finding("one", "the first cause", ("heard 41", "sent 7F"), ("look here", "then there"), "possible"),
    Finding("two", "another cause", (), ("only this",), "possible"),
)
EVENTS: tuple[Event, ...] = (
    RunStarted("brood-probe", "STM32F07x", "/dev/ttyUSB0", "115200 8E1", ("port", "sync", "write")),
    StepStarted("port"),
    StepEnded("port", "green", "opened"),
    StepStarted("sync"),
    HandsWanted("sync", ("set BOOT0 high", "press reset"), 20.0),
    StepEnded("sync", "green", "79 at the first try, 31 ms", 0.031, {"tries": 1}),
    StepStarted("write"),
    StepAdvanced("write", 512, 1024, "bytes", 0.05),
    Noted("write", "1 exchange repeated"),
    StepEnded("write", "failed", "the first cause", figures={"finding": "one"}),
    Found("write", FINDINGS),
    StepEnded("verify", "not reached", ""),
    RunEnded(False, 6, 1.234, "not green after 1.2 s", "512 of 1,024 bytes are written"),
)
LADDER = """\
brood-probe   STM32F07x   /dev/ttyUSB0   115200 8E1

 ● port     opened
   now      1. set BOOT0 high
            2. press reset
            asking for 20 s …
 ● sync     79 at the first try, 31 ms
   note     1 exchange repeated
 ✗ write    the first cause
   seen     heard 41
            sent 7F
   try      1. look here
            2. then there

   or       another cause
   try      only this
 ○ verify

 not green after 1.2 s
 512 of 1,024 bytes are written
"""


class Utf8(io.StringIO):
    encoding = "utf-8"


class Views(unittest.TestCase):
    def ladder(self, *events: Event) -> str:
        stream = Utf8()
        view = LadderView(stream)
        for event in events:
            view.show(event)
        view.close()
        return stream.getvalue()

    def test_the_ladder(self) -> None:
        self.assertEqual(self.ladder(*EVENTS), LADDER)

    def test_figures_of_long_steps(self) -> None:
        figures = {"bytes": 9472, "blocks": 74, "seconds": 0.94, "bytes_per_second": 10_000, "line_percent": 96}
        shown = self.ladder(StepEnded("write", "green", "74 pages of 128", 0.94, dict(figures)))
        self.assertRegex(shown, r" ● write    74 pages of 128 +0\.94 s   10\.0 kB/s   96 % of the line\n")

    def test_ends(self) -> None:
        self.assertIn(" green in 3.2 s: it runs", self.ladder(RunEnded(True, 0, 3.2, "it runs")))
        self.assertIn(" done in 3.2 s, not all proven: it", self.ladder(RunEnded(False, 0, 3.2, "it holds")))

    def test_json_has_every_event_with_its_own_keys(self) -> None:
        stream = io.StringIO()
        view = JsonView(stream)
        for event in EVENTS:
            view.show(event)
        lines = [json.loads(line) for line in stream.getvalue().splitlines()]
        self.assertEqual(len(lines), len(EVENTS))
        self.assertEqual(lines[0]["event"], "run-started")
        self.assertEqual(lines[0]["steps"], ["port", "sync", "write"])
        self.assertEqual(
            lines[4],
            {"event": "hands-wanted", "step": "sync", "moves": ["set BOOT0 high", "press reset"], "patience_s": 20.0},
        )
        self.assertEqual(lines[10]["findings"][0]["attempts"], ["look here", "then there"])
        self.assertEqual(lines[-1]["exit_code"], 6)


if __name__ == "__main__":
    unittest.main()
