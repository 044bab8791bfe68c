"""Many boards: at once, one after another, and what stays of it."""

from __future__ import annotations

import csv
import gzip
import json
import pickle
import signal
import socket
import subprocess
import unittest
from pathlib import Path
from typing import Any

import pexpect

from greenstep.cli.prompts import AT_THE_TERMINAL
from greenstep.core.events import StepAdvanced
from greenstep.ports.discovery import Newcomers, PortInfo
from greenstep.store.board import BoardSettings, ImageFile, PortChoice
from greenstep.work.batch_worker import Begins, Goes, Order, Waits
from greenstep.work.board import Board
from greenstep.work.jobs import make_job

from .support import COMMAND, Bench, ToolTest

APIARY = Path(__file__).parents[2] / "examples" / "apiary"

PROBE = ("brood-probe.hex", "--chip", "stm32f072", "--hookup", "dtr-reset-rts-boot")


def free_port() -> int:
    with socket.create_server(("127.0.0.1", 0)) as server:
        return int(server.getsockname()[1])


class AtOnce(ToolTest):
    def three(self, *settings: str) -> tuple[Bench, list[str]]:
        bench = self.bench("brood-probe", "brood-probe", "brood-probe", *settings)
        names = ("brood-probe", "brood-probe-2", "brood-probe-3")
        return bench, [word for name in names for word in ("--port", bench.port(name))]

    def test_each_port_once_and_a_file_of_results(self) -> None:
        bench, ports = self.three()
        nobody = f"rfc2217://127.0.0.1:{free_port()}"
        run = self.run_tool("batch", *PROBE, *ports, "--port", nobody, "--save", "probes.csv")
        self.assertEqual(run.status, 3, run.text)
        self.assertIn("3 of 4 boards green", run.out)
        self.assertRegex(run.out, r"(?m)^ ✗ +\d  \S+ +STM32F07x +nothing serves")
        self.assertRegex(run.out, r"board \d: nothing serves")
        self.assertNotIn("\a", run.out)
        with (self.folder / "probes.csv").open() as file:
            rows = list(csv.DictReader(file))
        self.assertEqual(sorted(row["green"] for row in rows), ["False", "True", "True", "True"])
        self.assertEqual(len({row["unique_id"] for row in rows if row["unique_id"]}), 3)
        content = bench.close()
        for name in ("brood-probe", "brood-probe-2", "brood-probe-3"):
            piece = self.probe.pieces[0]
            self.assertEqual(content[f"{name}.flash"][: len(piece.data)], piece.data)
        listed = self.run_tool("journal", "--on-chips").out
        self.assertEqual(len(listed.splitlines()), 3)

    def test_json_and_a_second_batch_that_finds_nothing_to_do(self) -> None:
        _, ports = self.three()
        first = self.run_tool("batch", *PROBE, *ports, "--json", "--save", "probes.json")
        self.assertEqual(first.status, 0, first.text)
        end = first.event("batch-ended")
        self.assertEqual((end["boards"], end["green"], end["failed"], end["findings"]), (3, 3, 0, []))
        saved = json.loads((self.folder / "probes.json").read_text())
        self.assertEqual([row["number"] for row in saved], [1, 2, 3])
        again = self.run_tool("batch", *PROBE, *ports, "--json", "--save", "probes.json")
        self.assertEqual(again.status, 2)
        self.assertIn("--replace", again.out)
        again = self.run_tool("batch", *PROBE, *ports, "--json", "--save", "probes.json", "--replace")
        compared = [event for event in again.events if event["event"] == "step-ended" and event["step"] == "compare"]
        self.assertEqual([event["figures"]["differing"] for event in compared], [0, 0, 0])

    def test_ctrl_c_finishes_the_boards_under_way(self) -> None:
        _, ports = self.three("--pace", "real", "--turnaround", "60")
        tool = self.start_tool(
            "batch", *PROBE, *ports[:4], "--again", "--json", "--baud", "38400", "--console-baud", "115200"
        )
        assert tool.stdout is not None
        for line in tool.stdout:
            if json.loads(line).get("step") == "erase":
                break
        tool.send_signal(signal.SIGINT)
        out, err = tool.communicate(timeout=60)
        events = [json.loads(line) for line in out.splitlines()]
        self.assertEqual(tool.returncode, 0, err)
        self.assertTrue(any(e["event"] == "noted" and "no further board" in e["text"] for e in events))
        self.assertEqual([e["green"] for e in events if e["event"] == "board-ended"], [True, True])

    def test_a_terminal_sees_a_table_and_hears_a_bell(self) -> None:
        _, ports = self.three()
        child = pexpect.spawn(
            COMMAND, ["batch", *PROBE, *ports], cwd=str(self.folder), timeout=60, dimensions=(30, 120),
            env=self.environment(TERM="xterm"), encoding="utf-8",  # type: ignore[arg-type]
        )  # fmt: skip
        self.addCleanup(child.close, force=True)
        child.expect("3 ports")
        child.expect("verify")
        child.expect("\a")
        child.expect("3 of 3 boards green")
        child.expect(pexpect.EOF)
        child.wait()
        self.assertEqual(child.exitstatus, 0)


class OneAfterAnother(ToolTest):
    def serve(self, number: int) -> Any:
        words = [COMMAND, "bench", "brood-probe", "--tcp-port", str(number), "--json"]
        bench = subprocess.Popen(words, stdout=subprocess.PIPE, text=True, cwd=self.folder)
        self.addCleanup(self.end, bench)
        assert bench.stdout is not None
        bench.stdout.readline()
        return bench

    @staticmethod
    def end(bench: Any) -> None:
        if bench.poll() is None:
            bench.kill()
            bench.communicate()

    def test_the_next_board_on_the_same_port(self) -> None:
        number = free_port()
        tool = self.start_tool(
            "batch", *PROBE, "--port", f"rfc2217://127.0.0.1:{number}", "--count", "2", "--wait", "60", "--json"
        )
        self.addCleanup(tool.kill)
        assert tool.stdout is not None
        heard = []
        bench = None
        for line in tool.stdout:
            event = json.loads(line)
            heard.append((event["event"], event.get("for", event.get("green"))))
            if heard[-1] == ("waits", "next"):
                bench = self.serve(number)
            if heard[-1] == ("waits", "take off"):
                assert bench is not None
                self.end(bench)
        tool.communicate(timeout=60)
        told = [row for row in heard if row[0] in ("waits", "board-ended")]
        self.assertEqual(
            told,
            [
                ("waits", "next"),
                ("board-ended", True),
                ("waits", "take off"),
                ("waits", "next"),
                ("board-ended", True),
            ],
        )
        self.assertEqual(tool.returncode, 0)

    def test_by_hand_and_no_next_one(self) -> None:
        bench = self.served("brood-probe", "--pty", "--hands", "1")
        run = self.run_tool(
            "batch", "brood-probe.hex", "--chip", "stm32f072", "--port", bench.port("brood-probe"), "--hookup", "by-hand",
            "--wait", "4",
        )  # fmt: skip
        self.assertEqual(run.status, 0, run.text)
        self.assertIn("1 of 1 board green", run.out)
        self.assertEqual(run.out.count("waiting for the next board"), 2)
        self.assertRegex(run.out, r"(?m)^     /dev/pts/\d+: set BOOT0 high .*; press reset")
        self.assertEqual(len(self.run_tool("journal", "--json").out.splitlines()), 1)

    def test_nobody_at_all(self) -> None:
        run = self.run_tool("batch", *PROBE, "--port", f"rfc2217://127.0.0.1:{free_port()}", "--wait", "1")
        self.assertEqual((run.status, "no board was there" in run.out), (0, True), run.text)


class Handed(unittest.TestCase):
    def test_an_order_goes_to_a_process_that_begins_anew(self) -> None:
        """Where processes cannot be forked, what they are to do is pickled."""
        images = (ImageFile(APIARY / "images" / "brood-probe.hex"),)
        settings = BoardSettings(chip="stm32f072", port=PortChoice(name="a/b"), images=images)
        order = Order(make_job("upload", Board("brood-probe", settings)), AT_THE_TERMINAL, again=True, wait_s=None)
        back = pickle.loads(pickle.dumps(order))
        self.assertEqual((back.job.images, back.job.dialect), (order.job.images, order.job.dialect))
        for news in (Waits("next"), Begins(), Goes(StepAdvanced("write", 1, 2, "bytes", 0.5))):
            self.assertEqual(pickle.loads(pickle.dumps(news)), news)


class Watching(unittest.TestCase):
    def test_ports_that_come_go_and_come_again(self) -> None:
        there: list[str] = ["/dev/ttyS0"]
        newcomers = Newcomers(lambda: [PortInfo(name, "", "", "", "") for name in there])
        seen = []
        for now in (
            ["/dev/ttyS0"],
            ["/dev/ttyS0", "/dev/ttyUSB1", "/dev/ttyUSB0"],
            ["/dev/ttyUSB1"],
            ["/dev/ttyUSB1", "/dev/ttyUSB0"],
        ):
            there[:] = now
            seen.append(newcomers.came())
        self.assertEqual(seen, [[], ["/dev/ttyUSB0", "/dev/ttyUSB1"], [], ["/dev/ttyUSB0"]])


class Refused(ToolTest):
    def test_what_does_not_go_together(self) -> None:
        for arguments, said in (
            (("--each-new-port", "--port", "a/b"), "--each-new-port takes every port"),
            (("--port", "a/b", "--port", "a/b"), "a port is named twice"),
            (("--port", "a/b", "--save", "probes.txt"), ".csv or .json"),
            (("--port", "a/b", "--save", "nowhere/probes.csv"), "nowhere/probes.csv"),
            (("--port", "a/b", "--count", "0"), "--count"),
        ):
            with self.subTest(arguments):
                run = self.run_tool("batch", *PROBE, *arguments)
                self.assertEqual(run.status, 2, run.text)
                self.assertIn(said, run.err)

    def test_an_image_that_does_not_fit_before_any_board(self) -> None:
        run = self.run_tool("batch", "nothing.hex", "--chip", "stm32f072", "--port", "a/b")
        self.assertEqual(run.status, 2)
        self.assertIn("nothing.hex", run.err)
        run = self.run_tool("batch", "hive-scale.hex", "--chip", "stm32f072", "--port", "a/b")
        self.assertEqual((run.status, "is not for this place" in run.err), (5, True), run.text)
        (self.folder / "packed.bin").write_bytes(gzip.compress(b"hive"))
        run = self.run_tool("batch", "packed.bin", "--chip", "stm32f072", "--port", "a/b")
        self.assertEqual((run.status, "this is packed (gzip)" in run.err), (5, True), run.text)


if __name__ == "__main__":
    unittest.main()
