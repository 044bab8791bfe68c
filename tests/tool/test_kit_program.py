"""A kit as a program, really packed, and run where there is no Python."""

from __future__ import annotations

import importlib.util
import subprocess
import unittest
from pathlib import Path
from typing import ClassVar

from .support import COMMAND, ToolTest

PACKS = importlib.util.find_spec("PyInstaller") is not None
EMPTY = {"PATH": "/nowhere", "LANG": "C.UTF-8"}


@unittest.skipUnless(PACKS, "PyInstaller is not installed: pip install 'greenstep[program]'")
class Packed(ToolTest):
    made: ClassVar[Path | None] = None

    def program(self) -> Path:
        """Made once: it takes most of a minute."""
        self.project(
            '[board.brood-probe]\nchip = "stm32f072"\nhookup = "dtr-reset-rts-boot"\n'
            'images = ["brood-probe.hex"]\nexpect = "brood probe 1.7"\n'
        )
        words = [
            "kit",
            "make",
            "brood-probe",
            "--save",
            "probe.kit",
            "--program",
            "probe",
            "--say-first",
            "Unplug the heater.",
        ]
        done = subprocess.run(
            [COMMAND, *words],
            cwd=self.folder,
            env=self.environment(),
            capture_output=True,
            text=True,
            timeout=600,
            check=False,
        )
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.assertIn("without Python: probe", done.stdout)
        return self.folder / "probe"

    def run_program(self, program: Path, port: str, typed: str) -> tuple[int, str]:
        home = self.folder / "home"
        home.mkdir(exist_ok=True)
        done = subprocess.run(
            [str(program), port], cwd=home, env={**EMPTY, "HOME": str(home)}, input=typed, capture_output=True, text=True,
            timeout=120, check=False,
        )  # fmt: skip
        self.assertNotIn("Traceback", done.stdout + done.stderr)
        return done.returncode, done.stdout

    def test_it_uploads_and_tells_what_to_send_back_where_it_cannot(self) -> None:
        program = self.program()
        bench = self.served("brood-probe")
        status, said = self.run_program(program, bench.port("brood-probe"), "\n")
        self.assertEqual(status, 0, said)
        for words in ("Unplug the heater.", "● verify", "brood-probe runs brood-probe.hex", "It worked. Press Enter"):
            self.assertIn(words, said)
        self.assertEqual(list((self.folder / "home").glob("*.txt")), [])
        status, said = self.run_program(program, "rfc2217://127.0.0.1:9", "\nq\n\n")
        self.assertEqual((status, said.count("nothing serves rfc2217")), (3, 2), said)
        report = next((self.folder / "home").glob("green-step-report-*.txt"))
        self.assertIn(report.name, said)
        for words in ("Green Step", "Linux", "nothing serves rfc2217://127.0.0.1:9"):
            self.assertIn(words, report.read_text())


class NotInstalled(ToolTest):
    def test_what_packs_it_is_named(self) -> None:
        self.project('[board.scale]\nchip = "atmega328p"\nimages = ["hive-scale.hex"]\n')
        (self.folder / "sitecustomize.py").write_text(
            "import importlib.util as util\nfound = util.find_spec\n"
            "util.find_spec = lambda name, *more: None if name == 'PyInstaller' else found(name, *more)\n"
        )
        run = self.run_tool("kit", "make", "scale", "--save", "a.kit", "--program", "a", PYTHONPATH=self.path())
        self.assertEqual((run.status, "pip install 'greenstep[program]'" in run.text), (2, True), run.text)

    def path(self) -> str:
        before = self.environment().get("PYTHONPATH", "")
        return f"{self.folder}:{before}" if before else str(self.folder)


if __name__ == "__main__":
    unittest.main()
