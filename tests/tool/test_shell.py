"""What surrounds the commands: completion, the manual page, the last line of a build."""

from __future__ import annotations

import shutil
import subprocess
import unittest
from pathlib import Path

from docs.make_man_page import PAGE, page

from .support import COMMAND, ToolTest

BOARDS = "[board.hive-scale]\nchip = 'atmega328p'\nport = '{port}'\nimages = ['hive-scale.hex']\n[board.brood-probe]\nchip = 'stm32'\n"


class Completion(ToolTest):
    def offered(self, *words: str) -> list[str]:
        run = self.run_tool(
            _GREENSTEP_COMPLETE="bash_complete",
            COMP_WORDS=" ".join(("greenstep", *words)),
            COMP_CWORD=str(len(words)),
        )
        return [line.partition(",")[2] for line in run.out.split()]

    def test_names_are_offered(self) -> None:
        self.project(BOARDS.format(port="x"))
        (self.folder / "build").mkdir()
        (self.folder / "build" / "bees.hex").write_text("")
        (self.folder / "notes.md").write_text("")
        cases = {
            ("jour",): ["journal"], ("upload", "hive"): ["hive-scale", "hive-scale.hex"], ("image", "co"): ["compare", "convert"],
            ("upload", "build/"): ["build/bees.hex"], ("image", "show", "no"): [], ("greet", "br"): ["brood-probe"],
            ("greet", "--chip", "atmega128"): ["atmega128", "atmega1284", "atmega1284p", "atmega1280", "atmega1281"], ("plan", "--dialect", "pic"): ["pic-an1310", "pic-an851", "pic-ds40001779", "pic32-an1388"],
            ("hookup", "show", "--hookup", "cap"): ["cap-dtr", "cap-rts"], ("upload", "none/x"): [],
        }  # fmt: skip
        for words, wanted in cases.items():
            with self.subTest(words):
                self.assertEqual(sorted(self.offered(*words)), sorted(wanted))
        self.project("not toml at all [")
        self.assertEqual(self.offered("greet", "br"), [])

    def test_each_shell_has_its_script(self) -> None:
        for shell, said in (
            ("bash", "complete -o nosort -F"),
            ("zsh", "#compdef greenstep"),
            ("fish", "complete --no-files --command greenstep"),
        ):
            run = self.run_tool("completion", shell)
            self.assertEqual((run.status, said in run.out), (0, True), run.text)
        self.assertEqual(self.run_tool("completion", "csh").status, 2)


class ManualPage(unittest.TestCase):
    def test_every_command_and_option_is_in_it(self) -> None:
        """`python docs/make_man_page.py` writes it anew."""
        made, kept = (
            {line.split("[")[0].strip() for line in text.splitlines() if line.startswith((".SS", ".B \\-"))}
            for text in (page(), PAGE.read_text("utf-8"))
        )
        self.assertGreater(len(made), 100)
        self.assertEqual(made, kept)

    def test_every_line_is_text_or_a_known_request(self) -> None:
        requests = {line.split()[0] for line in PAGE.read_text("utf-8").splitlines() if line[:1] in (".", "'")}
        self.assertEqual(requests, {".TH", ".SH", ".SS", ".PP", ".TP", ".B", ".nf", ".fi"})


@unittest.skipUnless(shutil.which("make"), "there is no make here")
class LastLineOfABuild(ToolTest):
    def build(self) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            ["make", "-s", "upload"], cwd=self.folder, env=self.environment(PATH=f"{Path(COMMAND).parent}:/usr/bin:/bin"),
            capture_output=True, text=True, stdin=subprocess.DEVNULL,
        )  # fmt: skip

    def test_green_goes_on_and_not_green_stops(self) -> None:
        bench = self.bench("hive-scale")
        (self.folder / "Makefile").write_text("upload:\n\tgreenstep upload hive-scale\n\techo built\n")
        self.project(BOARDS.format(port=bench.port("hive-scale")))
        done = self.build()
        self.assertEqual((done.returncode, done.stdout.splitlines()[-1]), (0, "built"), done.stdout + done.stderr)
        self.assertIn(f"hive-scale   ATmega328P   {bench.port('hive-scale')}   115200 8N1", done.stdout)
        self.project(BOARDS.format(port="/dev/none"))
        failed = self.build()
        self.assertNotEqual(failed.returncode, 0)
        self.assertIn("✗ port", failed.stdout)
        self.assertNotIn("built", failed.stdout)


if __name__ == "__main__":
    unittest.main()
