"""The console: in a terminal, in a script, after an upload; and what it keeps to itself."""

from __future__ import annotations

import json
import os
import select
import signal
import subprocess
import sys
import tempfile
import threading
import tty
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pexpect

from greenstep.ports.holders import holders

from .support import COMMAND, Run, ToolTest


class Board:
    """The test itself, at the other end of a pty: answers lines, and keeps what it took.

    Its port has a name of its own, and goes with it: the number of a pty that is closed is the next one's, which another
    process may have opened."""

    def __init__(self, answer: Callable[[bytes], bytes] = lambda line: b"") -> None:
        self._ours, self._theirs = os.openpty()
        tty.setraw(self._theirs)
        self._folder = tempfile.TemporaryDirectory(prefix="greenstep-port-")
        self.port = str(Path(self._folder.name) / "tty")
        Path(self.port).symlink_to(os.ttyname(self._theirs))
        self.taken = b""
        self._answer = answer
        self._gone = threading.Event()
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()

    def says(self, data: bytes) -> None:
        os.write(self._ours, data)

    def _serve(self) -> None:
        line = b""
        while not self._gone.is_set():
            if not select.select([self._ours], [], [], 0.05)[0]:
                continue
            got = os.read(self._ours, 256)
            self.taken += got
            line += got
            while b"\r\n" in line:
                first, _, line = line.partition(b"\r\n")
                self.says(self._answer(first))
        for descriptor in (self._theirs, self._ours):
            os.close(descriptor)

    def vanish(self) -> None:
        """As when the cable is pulled."""
        Path(self.port).unlink(missing_ok=True)
        self._gone.set()
        self._thread.join()


class Terminal(ToolTest):
    def spawn(self, board: Board, *arguments: str) -> Any:
        child = pexpect.spawn(
            COMMAND, ["listen", "--port", board.port, *arguments], cwd=str(self.folder), timeout=15, dimensions=(24, 80),
            env=self.environment(TERM="xterm"),  # type: ignore[arg-type]
        )  # fmt: skip
        self.addCleanup(child.close, force=True)
        return child

    def test_typing_answers_logging_and_leaving(self) -> None:
        board = Board(lambda line: b"you said " + line + b"\r\n")
        child = self.spawn(board, "--log", "hive.txt", "--send", "tare")
        child.expect("Ctrl-G or Ctrl-C leaves")
        board.says(b"hive scale 2.4 ready\r\n")
        child.expect("hive scale 2.4 ready")
        child.send("staxus\x7f\x7f\x7ftus\r")
        child.expect("you said status")
        child.send("\x07")
        child.expect(pexpect.EOF)
        child.wait()
        self.assertEqual(child.exitstatus, 0)
        self.assertEqual(board.taken, b"tare\r\nstatus\r\n")
        log = (self.folder / "hive.txt").read_text()
        self.assertRegex(log, r"(?m)^\d\d:\d\d:\d\d\.\d{3} < hive scale 2\.4 ready$")
        self.assertEqual([line[15:] for line in log.splitlines() if " > " in line], ["tare", "status"])
        self.assertRegex(log, r"(?m) < you said status$")

    def test_a_line_being_typed_stays_under_what_comes(self) -> None:
        board = Board()
        child = self.spawn(board, "--log", "hive.txt")
        child.expect("leaves")
        child.send("wei")
        child.expect("wei")
        board.says(b"cell 41.3 kg\r\nprompt> ")
        child.expect("cell 41.3 kg")
        child.expect("prompt> wei")
        child.send("gh\r")
        child.expect("prompt> weigh\r+\n")
        board.says(b"41.4 kg\r\n")
        child.expect("41.4 kg")
        child.send("\x1b[A\r\x07")
        child.expect(pexpect.EOF)
        self.assertEqual(board.taken, b"weigh\r\nweigh\r\n")
        said = [line[13:] for line in (self.folder / "hive.txt").read_text().splitlines()]
        self.assertEqual(said, ["< cell 41.3 kg", "< prompt> ", "> weigh", "< 41.4 kg", "> weigh"])

    def test_ctrl_c_leaves_and_the_terminal_is_as_before(self) -> None:
        board = Board()
        child = pexpect.spawn(
            "/bin/sh", cwd=str(self.folder), timeout=15, env=self.environment(TERM="xterm", PS1="$ "),  # type: ignore[arg-type]
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # whoever runs the tests may ignore it
        )  # fmt: skip
        self.addCleanup(child.close, force=True)
        child.sendline(f"{COMMAND} listen --port {board.port}; echo ended $?; stty -a | grep -c ' echo '")
        child.expect("Ctrl-C leaves")
        child.sendintr()
        child.expect("ended 130")
        child.expect("1")

    def test_every_key_goes_out_and_ctrl_c_is_one_of_them(self) -> None:
        board = Board()
        child = self.spawn(board, "--keys")
        child.expect("Ctrl-G leaves")
        child.send("ab")
        child.sendcontrol("c")
        child.send("\r")
        board.says(b"echo\r\n")
        child.expect("echo")
        child.send("\x07")
        child.expect(pexpect.EOF)
        child.wait()
        self.assertEqual((child.exitstatus, board.taken), (0, b"ab\x03\r"))

    def test_after_a_cable_was_pulled_it_goes_on(self) -> None:
        first, second = Board(), Board()
        place = self.folder / "tty-hive"
        place.symlink_to(Path(first.port).readlink())
        child = pexpect.spawn(
            COMMAND, ["listen", "--port", str(place)], cwd=str(self.folder), timeout=20, dimensions=(24, 100),
            env=self.environment(TERM="xterm"),  # type: ignore[arg-type]
        )  # fmt: skip
        child.expect("leaves")
        place.unlink()
        first.vanish()
        child.expect("the port went away .*: waiting for it")
        place.symlink_to(Path(second.port).readlink())
        child.expect("the port is back")
        second.says(b"41.3 kg\r\n")
        child.expect("41.3 kg")
        child.send("\x07")
        child.expect(pexpect.EOF)
        child.wait()

    def test_a_cable_that_stays_pulled_is_waited_for_until_it_is_left(self) -> None:
        board = Board()
        child = self.spawn(board)
        child.expect("leaves")
        board.vanish()
        child.expect("waiting for it")
        child.send("\x07")
        child.expect("went away in the middle")
        child.expect(pexpect.EOF)
        child.wait()
        self.assertEqual(child.exitstatus, 3)


class Script(ToolTest):
    STARTS, RUNS = "bench:hive-scale?fault=no-boot", "bench:hive-scale?on-for=5"

    def listen(self, port: str, *arguments: str, **variables: str) -> Run:
        return self.run_tool("listen", "--port", port, *arguments, **variables)

    def test_a_text_that_comes_and_one_that_does_not(self) -> None:
        good = self.listen(self.STARTS, "--expect", "scale 2.3", "--within", "10")
        self.assertEqual((good.status, "hive scale 2.3" in good.out), (0, True), good.text)
        bad = self.listen("bench:hive-scale?fault=dead", "--expect", "frame lift", "--within", "0.3")
        self.assertEqual(bad.status, 8)
        self.assertIn('"frame lift" was not heard within 0.3 s', bad.err)
        self.assertIn("heard nothing", bad.err)

    def test_lines_from_options_and_a_pipe_are_sent_with_their_ends(self) -> None:
        run = self.listen(self.RUNS, "--send", "name hive-7", "--expect", "taken: name hive-7", "--within", "10")
        self.assertEqual(run.status, 0, run.text)
        lonely = self.listen(self.RUNS, "--send", "name", "--line-end", "lf", "--expect", "taken", "--within", "2")
        self.assertEqual(lonely.status, 8, lonely.text)
        said = ("--line-end", "crlf", "--expect", "taken: status", "--within", "10")
        piped = self.run_tool("listen", "--port", self.RUNS, *said, typed="status\n")
        self.assertEqual(piped.status, 0, piped.text)

    def test_a_file_is_sent_as_it_is_and_what_is_heard_is_saved(self) -> None:
        lines = [f"hive {number}: {number * 37 % 211:03} kg" for number in range(40)]
        (self.folder / "names.txt").write_bytes("".join(f"{line}\r\n" for line in lines).encode())
        for pause in ((), ("--pause", "0.05")):
            words = ("--send-file", "names.txt", "--save", "heard.bin", "--replace", *pause)
            run = self.listen("bench:hive-scale?on-for=5", *words, "--expect", lines[-1], "--within", "20")
            with self.subTest(pause):
                self.assertEqual(run.status, 0, run.text)
                heard = (self.folder / "heard.bin").read_bytes()
                self.assertEqual([row[7:] for row in heard.decode().replace("next? ", "").splitlines()
                                  if row.startswith("taken: ")], lines[: heard.count(b"taken:")])  # fmt: skip
                self.assertGreaterEqual(heard.count(b"taken:"), 39)
        self.assertEqual(self.listen(self.RUNS, "--save", "heard.bin", "--seconds", "0.2").status, 2)
        self.assertIn("nobody.txt: No such file", self.listen(self.RUNS, "--send-file", "nobody.txt").err)
        late = self.listen(self.RUNS, "--send-file", "names.txt", "--pause", "0.5", "--seconds", "1.2")
        self.assertRegex(late.err, r"^\d+ bytes of the file were not sent in time")

    def test_a_word_that_is_no_board(self) -> None:
        self.assertIn("--port /dev/ttyUSB9", self.run_tool("listen", "/dev/ttyUSB9").err)
        self.assertIn("without a board: --port NAME", self.run_tool("listen", "hive-scale").err)

    def test_a_pipe_in_any_encoding(self) -> None:
        done = subprocess.run(
            [COMMAND, "listen", "--port", self.RUNS, "--expect", "taken: status", "--within", "10"], cwd=self.folder,
            env=self.environment(), input=b"caf\xe9\nstatus\n", capture_output=True, timeout=60,
        )  # fmt: skip
        self.assertEqual((done.returncode, done.stderr), (0, b""), done.stdout)

    def test_a_pipe_that_is_still_open_when_it_ends(self) -> None:
        ours, theirs = os.pipe()
        self.addCleanup(os.close, theirs)
        os.write(theirs, b"status\n")
        done = subprocess.run(
            [COMMAND, "listen", "--port", self.RUNS, "--expect", "taken: status", "--within", "10"], cwd=self.folder,
            env=self.environment(), stdin=ours, capture_output=True, timeout=60,
        )  # fmt: skip
        os.close(ours)
        self.assertEqual((done.returncode, done.stderr), (0, b""), done.stdout)

    def test_times_hex_and_json(self) -> None:
        said = ("--send", "weigh", "--seconds", "0.6")
        self.assertRegex(self.listen(self.RUNS, "--times", *said).out, r"(?m)^ +\d\.\d{3}  taken: weigh$")
        shown = self.listen(self.RUNS, "--hex", *said).out
        self.assertIn("74 61 6B 65 6E 3A 20 77 65 69 67 68 0D 0A 6E 65  taken: weigh··ne", shown)
        events = self.listen(self.RUNS, "--json", *said)
        self.assertEqual(events.event("sent")["text"], "weigh")
        self.assertIn("taken: weigh", [event["text"] for event in events.events if event["event"] == "heard"])

    def test_what_has_no_line_end_is_shown_at_the_end(self) -> None:
        run = self.listen(self.RUNS, "--send", "tare", "--seconds", "0.4")
        self.assertTrue(run.out.endswith("next? \n"), run.text)

    def test_find_baud_names_the_rate_that_reads(self) -> None:
        bench = self.bench("hive-scale", "--fault", "console=57600", "--fault", "no-boot")
        run = self.run_tool(
            "listen",
            "--chip",
            "avr",
            "--port",
            bench.port("hive-scale"),
            "--reset",
            "--find-baud",
            "--expect",
            "hive scale",
            "--within",
            "10",
        )
        self.assertEqual(run.status, 0, run.text)
        self.assertRegex(run.out, r"(?m)^ +57600 +100 %  \"hive scale 2\.3")
        self.assertIn("57600 8N1", run.out)

    def test_no_rate_reads(self) -> None:
        bench = self.bench("hive-scale", "--fault", "dead")
        run = self.run_tool("listen", "--port", bench.port("hive-scale"), "--find-baud", "--baud", "9600")
        self.assertEqual((run.status, "nothing was heard at any rate" in run.err), (8, True), run.text)

    def test_without_a_way_to_reset_it_says_so(self) -> None:
        run = self.run_tool("listen", "--port", "/dev/ttyUSB77", "--chip", "stm32", "--reset")
        self.assertEqual((run.status, "has no line that resets" in run.err), (2, True))
        log = self.run_tool("listen", "--port", self.RUNS, "--log", "/nowhere/hive.txt", "--seconds", "0.1")
        self.assertEqual((log.status, "cannot be written" in log.err), (2, True))


class AfterAnUpload(ToolTest):
    def test_the_first_bytes_are_there(self) -> None:
        bench = self.bench("brood-probe")
        child = pexpect.spawn(
            COMMAND,
            ["upload", "brood-probe.hex", "--chip", "stm32f072", "--port", bench.port("brood-probe"), "--hookup", "dtr-reset-rts-boot",
             "--expect", "brood", "--listen", "--trace", "probe.vcd"],
            cwd=str(self.folder), timeout=40, env=self.environment(TERM="xterm"),  # type: ignore[arg-type]
        )  # fmt: skip
        self.addCleanup(child.close, force=True)
        child.expect("green in")
        child.expect("Ctrl-G or Ctrl-C leaves")
        for _ in range(3):
            child.expect("brood probe 1.7 ready")
        child.send("\x07")
        child.expect(pexpect.EOF)
        child.wait()
        self.assertEqual(child.exitstatus, 0)
        self.assertIn("write memory", self.run_tool("trace", "show", "probe.vcd").out)

    def test_a_talk_with_a_secret_that_is_kept_nowhere(self) -> None:
        self.project(
            '[board.hive]\nport = "bench:brood-probe"\nexpect = "ready"\n'
            'talk = [ { send = "name hive-7" }, { expect = "next?", secret = "HIVE_KEY" }, { expect = "taken: h" } ]\n'
        )
        run = self.run_tool("start", "hive", "--trace", "talk.vcd", HIVE_KEY="honey-17")
        self.assertEqual(run.status, 0, run.text)
        self.assertIn("● talk     2 expected texts heard, 2 lines sent", run.out)
        self.assertIn("sent HIVE_KEY, a secret", run.out)
        shown = self.run_tool("trace", "show", "talk.vcd", "--all").out
        self.assertIn("taken: name hive-7", shown)
        bits = "".join((self.folder / "talk.vcd").read_text())
        self.assertNotIn("honey-17", run.text + shown)
        self.assertNotIn("".join(f"b{value:b} t\n1T\n" for value in b"hon"), bits)

    def test_a_secret_that_is_nowhere_is_asked_for_before_anything_is_done(self) -> None:
        run = self.run_tool(
            "upload",
            "brood-probe.hex",
            "--chip",
            "stm32f072",
            "--port",
            "/dev/ttyUSB77",
            "--talk",
            '{ secret = "HIVE_KEY" }',
        )
        self.assertEqual(
            (run.status, "the secret HIVE_KEY is not in the environment" in run.err), (2, True), run.text
        )
        wrong = self.run_tool("start", "--chip", "avr", "--port", "/dev/ttyUSB77", "--talk", "{ sent = 1 }")
        self.assertEqual((wrong.status, "--talk { sent = 1 }" in wrong.err), (2, True), wrong.text)


class Shared(ToolTest):
    def test_a_port_served_to_another_machine(self) -> None:
        bench = self.served("hive-scale")
        share = self.start_tool("share-port", bench.port("hive-scale"), "--json")
        self.addCleanup(share.communicate)
        self.addCleanup(share.terminate)
        assert share.stdout is not None
        url = json.loads(share.stdout.readline())["url"]
        self.assertTrue(url.startswith("rfc2217://127.0.0.1:"))
        run = self.run_tool(
            "upload", "hive-scale.hex", "--chip", "atmega328p", "--port", url, "--expect", "hive scale 2.4"
        )
        self.assertEqual(run.status, 0, run.text)
        self.assertEqual(bench.close()["hive-scale.flash"][:4000], self.scale.pieces[0].data)

    def test_a_pty_is_shared_to_one_that_wants_parity(self) -> None:
        bench = self.served("brood-probe", "--pty", "--hands", "0.3")
        share = self.start_tool("share-port", bench.port("brood-probe"), "--json")
        self.addCleanup(share.communicate)
        self.addCleanup(share.terminate)
        assert share.stdout is not None
        url = json.loads(share.stdout.readline())["url"]
        run = self.run_tool("greet", "--chip", "stm32", "--port", url, "--hookup", "by-hand")
        self.assertEqual(run.status, 0, run.text)
        self.assertIn("STM32F07x answers", run.out)

    def test_a_pty_that_goes_away_and_a_plain_warning(self) -> None:
        board = Board()
        share = self.start_tool("share-port", board.port, "--host", "0.0.0.0")
        assert share.stdout is not None
        self.assertIn("rfc2217://0.0.0.0:", share.stdout.readline())
        self.assertIn("there is no password", share.stdout.readline())
        board.vanish()
        _, err = share.communicate(timeout=20)
        self.assertEqual((share.returncode, "went away in the middle" in err), (3, True), err)

    def test_an_address_that_cannot_be_had(self) -> None:
        run = self.run_tool("share-port", Board().port, "--host", "192.0.2.1")
        self.assertEqual((run.status, "cannot be served" in run.err), (2, True), run.text)


@unittest.skipUnless(sys.platform.startswith("linux"), "ptys that vanish are Linux's")
class Endings(ToolTest):
    def test_each_command_ends_with_a_finding_when_its_pty_goes(self) -> None:
        for arguments in (
            ("greet", "--chip", "avr", "--patience", "60"),
            ("greet",),
            ("start", "--chip", "stm32", "--leave", "wait 1 ms", "--expect", "x", "--expect-within", "60"),
            ("listen", "--expect", "x", "--within", "60"),
            ("listen", "--find-baud", "--chip", "avr"),
        ):
            with self.subTest(arguments):
                board = Board()
                running = self.start_tool(*arguments, "--port", board.port)
                while not holders(board.port):
                    self.assertIsNone(running.poll())
                    select.select([], [], [], 0.01)
                board.vanish()
                out, err = running.communicate(timeout=20)
                self.assertEqual((running.returncode, "went away in the middle" in out + err), (3, True), out + err)

    def test_lines_of_a_port_without_any(self) -> None:
        for arguments in (
            ("hookup", "hold", "dtr off", "--seconds", "60"),
            ("hookup", "try"),
            ("hookup", "find"),
            ("listen", "--reset"),
        ):
            with self.subTest(arguments):
                run = self.run_tool(*arguments, "--chip", "avr", "--port", "bench:hive-scale?lines=none")
                self.assertEqual((run.status, "this port has no DTR and RTS" in run.err), (2, True), run.text)


if __name__ == "__main__":
    unittest.main()
