"""A batch in which each board has values of its own."""

from __future__ import annotations

import csv
import json
import os
import signal
import subprocess

from .support import COMMAND, ToolTest

PROBE = ("brood-probe.hex", "--chip", "stm32f072", "--hookup", "dtr-reset-rts-boot")
AT = 0x400


class OwnValues(ToolTest):
    def setUp(self) -> None:
        super().setUp()
        self.rows(4)
        self.probes = self.bench("brood-probe", "brood-probe", "brood-probe")
        self.names = ("brood-probe", "brood-probe-2", "brood-probe-3")

    def rows(self, number: int) -> None:
        (self.folder / "probes.csv").write_text("serial,key\n" + "".join(f"P-{n:03},k{n}\n" for n in range(number)))

    def batch(self, *names: str, more: tuple[str, ...] = ()) -> tuple[str, ...]:
        ports = [word for name in names for word in ("--port", self.probes.port(name))]
        patch = ("--patch", f'{0x8000000 + AT:#x}="{{serial}}\\0"')
        return ("batch", *PROBE, *ports, "--values", "probes.csv", *patch, "--once", *more)

    def on_chips(self, *names: str) -> list[str]:
        content = self.probes.close()
        return [content[f"{name}.flash"][AT : AT + 6].decode() for name in names]

    def test_each_board_has_its_own_and_keeps_it(self) -> None:
        run = self.run_tool(*self.batch(*self.names, more=("--save", "done.csv")))
        self.assertEqual(run.status, 0, run.text)
        found = self.on_chips(*self.names)
        self.assertEqual(sorted(found), ["P-000\0", "P-001\0", "P-002\0"])
        with (self.folder / "done.csv").open() as file:
            saved = {row["unique_id"]: row["own_values"] for row in csv.DictReader(file)}
        self.assertEqual(sorted(saved.values()), [f"serial=P-00{n}, key=k{n}" for n in range(3)])
        journal = self.run_tool("journal", "--json").events
        self.assertEqual({row["unique_id"]: row["own_values"] for row in journal}, saved)
        self.assertIn("P-001", self.run_tool("journal", "2").out + self.run_tool("journal", "1").out
                      + self.run_tool("journal", "3").out)  # fmt: skip
        self.assertNotIn("old:", self.run_tool("journal", "--on-chips").out)
        given = self.run_tool("journal", "--values", "--json").events
        self.assertEqual({row["unique_id"]: f"serial={row['values']['serial']}, key={row['values']['key']}"
                          for row in given}, saved)  # fmt: skip
        again = self.run_tool(*self.batch(*reversed(self.names), more=("--json",)))
        self.assertEqual({row["unique_id"]: row["own_values"] for row in again.events
                          if row["event"] == "board-ended"}, saved)  # fmt: skip
        self.assertEqual(self.on_chips(*self.names), found)

    def test_nothing_is_left(self) -> None:
        self.rows(2)
        run = self.run_tool(*self.batch(*self.names))
        self.assertEqual(run.status, 0, run.text)
        self.assertIn("2 of 2 boards green", run.out)
        self.assertIn("every row of values is given", run.out)
        self.assertEqual(len(self.run_tool("journal", "--values", "--json").events), 2)
        first = next(row["port"] for row in self.run_tool("journal", "--json").events)
        words = self.batch()
        again = self.run_tool(*words[:1], *PROBE, "--port", first, *words[words.index("--values") :])
        self.assertIn("1 of 1 board green", again.out)  # it has its own already

    def test_a_board_that_was_not_touched_takes_nothing(self) -> None:
        wrong = self.run_tool(*self.batch("brood-probe", more=("--chip", "stm32f103cb")))
        self.assertNotEqual(wrong.status, 0)
        self.assertEqual(self.run_tool("journal", "--values").out, "no value was given\n")

    def test_a_value_is_not_given_twice_after_an_interruption(self) -> None:
        words = self.batch("brood-probe", more=("--json", "--baud", "38400", "--console-baud", "115200"))
        slow = [f"{word}&pace=real&turnaround=150" if word.startswith("bench:") else word for word in words]
        tool = subprocess.Popen([COMMAND, *slow], cwd=self.folder, env=self.environment(), stdout=subprocess.PIPE,
                                text=True, start_new_session=True)  # fmt: skip
        assert tool.stdout is not None
        for line in tool.stdout:
            if json.loads(line).get("step") == "erase":
                break
        os.killpg(tool.pid, signal.SIGKILL)
        tool.communicate()
        (begun,) = self.run_tool("journal", "--values", "--json").events
        self.assertEqual((begun["values"]["serial"], begun["outcome"]), ("P-000", ""))
        run = self.run_tool(*self.batch("brood-probe-2", "brood-probe"))
        self.assertEqual(run.status, 0, run.text)
        self.assertEqual(sorted(self.on_chips("brood-probe", "brood-probe-2")), ["P-001\0", "P-002\0"])

    def test_a_counter_said_to_the_application(self) -> None:
        ports = self.batch("brood-probe", "brood-probe-2")
        words = (*ports[: ports.index("--values")], "--once", "--count-from", "40", "--series", "hives")
        talk = (
            "--talk",
            '{ send = "number {count:04}" }',
            "--talk",
            '{ expect = "taken: number {count:04}" }',
            "--json",
        )
        run = self.run_tool(*words, *talk)
        self.assertEqual(run.status, 0, run.text)
        ended = [row["own_values"] for row in run.events if row["event"] == "board-ended"]
        self.assertEqual(sorted(ended), ["count=40", "count=41"])
        said = {row["evidence"] for row in run.events if row["event"] == "step-ended" and row["step"] == "talk"}
        self.assertEqual(said, {"1 expected text heard, 1 line sent"})

    def test_what_cannot_be_is_said_before_the_first_board(self) -> None:
        for said, more in (
            ("no value mac", ("--patch", "0x8000500={mac:hex}")),
            ("row 1 of the values: ", ("--patch", "0x8000500={serial:u32}")),
            ("--patch 5: ", ("--patch", "5")),
            ("probes.txt", ("--values", "probes.txt")),
        ):
            run = self.run_tool(*self.batch("brood-probe", more=more))
            with self.subTest(said):
                self.assertEqual((run.status, said in run.text), (2, True), run.text)
        nowhere = self.run_tool(*self.batch("brood-probe"), GREENSTEP_JOURNAL="none")
        self.assertIn("none is kept", nowhere.text)
        self.assertEqual(self.probes.close(), {})
