"""A dialect of somebody else's, installed from a folder, without a change to anything here."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

_DIALECT = """
from greenstep.core.dialects.spec import Cost
from greenstep.core.dialects.dialect import Dialect
from greenstep.core.dialects.results import Examination, Identity
from greenstep.core.dialects.spec import Asking, Attempt, Erasing, Setting, Spec, Starting
from greenstep.core.link import Frame


class Waggle(Dialect):
    name = "waggle"
    title = "waggle dance loader"
    document = "a made-up one"
    frame = Frame(8, "none", 1)
    spec = Spec(
        asking=Asking(sent=b"~", answers=(b"!",), attempts=(Attempt(0.0, 2),), wait_s=0.1, order=90),
        erasing=Erasing.INSIDE_WRITE, starting=Starting.COMMAND, guards_writes=False, gives_up=False, tells_chip=False,
        settings=(Setting("turns", "number", 3, "how often it dances"),),
    )

    def ask(self, wait_s):
        self.link.write(b"~")
        return "dances" if self.link.read(1, wait_s) == b"!" else None

    def identify(self):
        return Identity(None, "dances %d turns" % self.setting("turns"))

    def examine(self, part):
        return Examination(part)

    def write(self, memory, blocks):
        for block in blocks:
            self.link.write(block.data)
            yield block

    def read(self, memory, address, size):
        return b""

    def start(self, address):
        return "flies"

    @classmethod
    def write_block(cls, memory):
        return 16

    @classmethod
    def read_block(cls, memory):
        return 16

    @classmethod
    def cost_of_write(cls, memory, size):
        return Cost(size, 1, 1)

    @classmethod
    def cost_of_read(cls, memory, size):
        return Cost(1, size, 1)
"""
_USE = """
from greenstep.bench.trial import run
from greenstep.core.dialects.registry import dialect_names, find_dialect
assert "waggle" in dialect_names()
dialect = find_dialect("waggle")
assert dialect.title == "waggle dance loader", dialect
from greenstep.cli.main import main
main(["chips", "waggle"], standalone_mode=False)
trial = run("atmega328p", purpose="greet", dialect_name="waggle")
print([finding.key for finding in trial.findings])
"""


class ThirdParty(unittest.TestCase):
    def test_it_is_found_listed_and_climbed_with(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            (folder / "waggle.py").write_text(_DIALECT)
            info = folder / "waggle-1.0.dist-info"
            info.mkdir()
            (info / "METADATA").write_text("Metadata-Version: 2.1\nName: waggle\nVersion: 1.0\n")
            (info / "entry_points.txt").write_text("[greenstep.dialects]\nwaggle = waggle:Waggle\n")
            done = subprocess.run(
                [sys.executable, "-c", _USE],
                capture_output=True,
                text=True,
                env={"PYTHONPATH": str(folder), "PATH": ""},
            )
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertIn("waggle: waggle dance loader, a made-up one, 8N1", done.stdout)
            self.assertIn("--set turns: how often it dances [0x03]", done.stdout)
            self.assertIn("['other-dialect']", done.stdout)


if __name__ == "__main__":
    unittest.main()
