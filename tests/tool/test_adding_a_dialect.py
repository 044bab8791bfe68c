"""docs/adding-a-dialect.md: the package that it builds, installed beside the tool, does what the page says."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
import tomllib
import unittest
from pathlib import Path

from .support import COMMAND

PAGE = (Path(__file__).parents[2] / "docs" / "adding-a-dialect.md").read_text("utf-8")


def files() -> dict[str, str]:
    """What the page shows, by the name in its first line."""
    blocks = re.findall(r"```(?:python|toml)\n# (\S+)\n(.*?)```", PAGE, re.DOTALL)
    return dict(blocks)


def entry_points(project: str) -> str:
    """As an installer writes them down."""
    groups = tomllib.loads(project)["project"]["entry-points"]
    return "\n".join(
        f"[{group}]\n" + "".join(f"{name} = {value}\n" for name, value in points.items())
        for group, points in groups.items()
    )


class ThePage(unittest.TestCase):
    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.place = Path(holder.name)
        shown = files()
        for name, text in shown.items():
            path = self.place / name
            path.parent.mkdir(exist_ok=True)
            path.write_text(text, "utf-8")
        installed = self.place / "greenstep_comb-1.0.dist-info"
        installed.mkdir()
        (installed / "METADATA").write_text("Metadata-Version: 2.1\nName: greenstep-comb\nVersion: 1.0\n")
        (installed / "entry_points.txt").write_text(entry_points(shown["pyproject.toml"]))

    def run_there(self, *command: str) -> subprocess.CompletedProcess[str]:
        environment = {**os.environ, "PYTHONPATH": str(self.place), "GREENSTEP_JOURNAL": "none"}
        return subprocess.run(
            command, cwd=self.place, env=environment, capture_output=True, text=True, timeout=120, check=False
        )

    def test_its_commands_say_what_it_shows(self) -> None:
        self.run_there(
            sys.executable,
            "-c",
            "from greenstep.bench.trial import sample_for\n"
            "image = sample_for('comb-shelf', 3000)\n"
            "open('shelf.bin', 'wb').write(image.pieces[0].data)",
        )
        (session,) = re.findall(r"```text\n(\$ greenstep.*?)```", PAGE, re.DOTALL)
        commands = session.split("$ greenstep ")[1:]
        self.assertEqual(len(commands), 6)
        for command in commands:
            line, *expected = command.strip("\n").split("\n")
            words = [word.strip('"') for word in re.findall(r'"[^"]*"|\S+', line)]
            done = self.run_there(COMMAND, *words)
            with self.subTest(command=line):
                self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
                for text in expected:
                    self.assertRegex(done.stdout, re.escape(text.strip()).replace(r"\ ", r"\s+"))

    def test_its_situations_come_out_as_they_should(self) -> None:
        done = self.run_there(sys.executable, "-m", "unittest", "-v", "test_comb.Comb")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("Ran 3 tests", done.stderr)


if __name__ == "__main__":
    unittest.main()
