"""A console that holds a port steps aside for another command, and takes it up again, whatever becomes of either."""

from __future__ import annotations

import os
import pty
import signal
import socket
import subprocess
import threading
import time
import tty
import unittest

from .support import LONGEST_S, ToolTest

GREET = ("greet", "--chip", "atmega328p", "--hookup", "by-hand", "--patience", "0.3")
RESET = ("reset", "--chip", "atmega328p", "--hookup", "cap-dtr")
"""On a pty it opens the port, finds no lines, and is over at once."""


class Heard:
    """What a command under way has printed so far."""

    def __init__(self, process: subprocess.Popen[str]) -> None:
        self.process = process
        self.lines: list[str] = []
        self._reader = threading.Thread(target=self._read, daemon=True)
        self._reader.start()

    def _read(self) -> None:
        assert self.process.stdout is not None
        for line in self.process.stdout:
            self.lines.append(line.rstrip("\n"))

    def wait_for(self, text: str, times: int = 1) -> None:
        """Until it is in so many of the lines. Raises AssertionError."""
        end_s = time.monotonic() + LONGEST_S
        while sum(text in line for line in self.lines) < times:
            if time.monotonic() > end_s or (self.process.poll() is not None and not self._reader.is_alive()):
                raise AssertionError(f"no '{text}' in {self.lines}")
            time.sleep(0.02)

    def end(self, by: signal.Signals = signal.SIGINT) -> list[str]:
        self.process.send_signal(by)
        self.process.wait(LONGEST_S)
        self._reader.join(LONGEST_S)
        assert self.process.stdout is not None and self.process.stderr is not None
        self.process.stdout.close()
        self.process.stderr.close()
        return self.lines


class OverAPty(ToolTest):
    """The board's side is the test itself."""

    def setUp(self) -> None:
        super().setUp()
        self.board, self._kept = pty.openpty()
        tty.setraw(self._kept)
        self.port = os.ttyname(self._kept)
        self.addCleanup(os.close, self.board)
        self.addCleanup(os.close, self._kept)

    def says(self, *lines: str) -> None:
        os.write(self.board, "".join(f"{line}\r\n" for line in lines).encode())

    def console(self, lends: bool = True) -> Heard:
        heard = Heard(self.start_tool("listen", "--port", self.port))
        self.addCleanup(lambda: heard.process.poll() is None and heard.end(signal.SIGKILL))
        heard.wait_for(self.port)
        end_s = time.monotonic() + LONGEST_S
        while lends and not self.sockets():
            self.assertLess(time.monotonic(), end_s)
            time.sleep(0.02)
        return heard

    def sockets(self) -> list[str]:
        folder = self.folder / "greenstep"
        return sorted(path.name for path in folder.iterdir()) if folder.exists() else []

    def test_all_that_was_said_before_is_shown_before(self) -> None:
        console = self.console()
        for turn in range(1, 4):
            burst = [f"frame {turn}.{number:03}" for number in range(100)]
            self.says(*burst)
            asked = self.run_tool(*(GREET if turn == 1 else RESET), "--port", self.port)
            self.assertEqual(asked.status, 4 if turn == 1 else 2, asked.text)
            if turn == 1:
                self.assertIn("the console stepped aside", asked.out)
            console.wait_for(" had the port for", turn)
            place = console.lines.index(burst[-1])
            self.assertEqual(console.lines[place - 99 : place + 1], burst)
            given = [number for number, line in enumerate(console.lines) if line.endswith(" has the port")]
            self.assertGreater(given[turn - 1], place)
        self.says("still here")
        console.wait_for("still here")
        self.assertIn("not green", "".join(line for line in console.end() if "had the port" in line))
        self.assertEqual(self.sockets(), [])

    def test_a_guest_that_is_killed_gives_the_port_back(self) -> None:
        console = self.console()
        guest = self.start_tool(*GREET[:-1], "100", "--port", self.port)
        console.wait_for("greet has the port")
        guest.kill()
        guest.communicate()
        console.wait_for("it did not say how it went")
        self.says("back again")
        console.wait_for("back again")
        console.end()
        self.assertEqual(self.sockets(), [])

    def test_a_console_that_is_killed_stands_in_nobodys_way(self) -> None:
        console = self.console()
        console.end(signal.SIGKILL)
        self.assertEqual(len(self.sockets()), 1)
        asked = self.run_tool(*RESET, "--port", self.port)
        self.assertEqual(asked.status, 2, asked.text)
        self.assertEqual(self.sockets(), [])
        second = self.console()  # nor in the next one's
        self.says("heard")
        second.wait_for("heard")
        second.end()

    def test_one_that_never_answers_is_not_waited_for(self) -> None:
        console = self.console()
        (place,) = (self.folder / "greenstep").iterdir()
        console.end(signal.SIGKILL)
        place.unlink()
        with socket.socket(socket.AF_UNIX) as silent:
            silent.bind(str(place))
            silent.listen()
            asked = self.run_tool(*GREET, "--port", self.port)
        self.assertEqual(asked.status, 4, asked.text)
        self.assertIn("opened", asked.out)
        self.assertNotIn("stepped aside", asked.out)

    def test_a_folder_that_others_can_enter_is_not_used(self) -> None:
        folder = self.folder / "greenstep"
        folder.mkdir()
        folder.chmod(0o755)
        console = self.console(lends=False)
        self.says("heard")
        console.wait_for("heard")
        self.assertEqual(self.sockets(), [])
        console.end()


class OverTheNetwork(ToolTest):
    def test_an_upload_and_a_reset_while_the_console_listens(self) -> None:
        bench = self.served("hive-scale", "--turnaround", "0")
        reach = ("--chip", "atmega328p", "--hookup", "cap-dtr", "--port", bench.port("hive-scale"))
        console = Heard(self.start_tool("listen", *reach))
        console.wait_for("rfc2217://")
        done = self.run_tool("upload", "hive-scale.hex", *reach, "--expect", "ready")
        self.assertEqual(done.status, 0, done.text)
        console.wait_for("- upload had the port for")
        console.wait_for("runs hive-scale.hex")
        console.wait_for("hive scale 2.4 ready")
        reset = self.run_tool("reset", *reach)
        self.assertIn("the console that lent its port listens again", reset.out)
        console.wait_for("- reset had the port for")
        console.end()


if __name__ == "__main__":
    unittest.main()
