"""The console with the program's ELF file: addresses followed by their place, and a file that is of something else."""

from __future__ import annotations

import shutil
import signal
import subprocess
import unittest
from pathlib import Path
from urllib.parse import quote

from .support import ToolTest
from .test_turns import Heard

CODE = (Path(__file__).parents[2] / "examples" / "apiary" / "source" / "lift.c").read_text()


@unittest.skipUnless(shutil.which("gcc") and shutil.which("nm"), "needs gcc and binutils")
class Places(ToolTest):
    def setUp(self) -> None:
        super().setUp()
        (self.folder / "lift.c").write_text(CODE)
        subprocess.run(["gcc", "-O2", "-g", "-no-pie", "-o", "lift.elf", "lift.c"], cwd=self.folder, check=True)
        rows = subprocess.run(["nm", "lift.elf"], cwd=self.folder, capture_output=True, text=True, check=True).stdout
        self.lift = next(int(row.split()[0], 16) for row in rows.splitlines() if row.endswith(" lift"))

    def listen(self, says: str, *arguments: str) -> str:
        port = f"bench:hive-scale?fault={quote(f'says={says}', safe='')}"
        done = self.run_tool(
            "listen", "--chip", "atmega328p", "--port", port, "--reset", "--seconds", "1.2", "--elf", "lift.elf",
            *arguments,
        )  # fmt: skip
        self.assertEqual(done.status, 0, done.text)
        return done.out

    def heard_after_an_upload(self) -> str:
        self.project(
            '[board.hive-scale]\nchip = "atmega328p"\nport = "bench:hive-scale"\nimages = ["hive-scale.hex"]\n'
            'elf = "lift.elf"\n'
        )
        self.assertEqual(self.run_tool("upload", "hive-scale").status, 0)
        return self.run_tool("listen", "hive-scale", "--seconds", "0.3").out

    def test_a_crash_is_followed_by_its_places(self) -> None:
        out = self.listen(f"Backtrace: 0x{self.lift:08x}:0x3ffb1f50")
        self.assertIn("lift.elf is not compared with the board: no upload of it is on record", out)
        shown = out.splitlines()
        at = next(number for number, line in enumerate(shown) if line.startswith("Backtrace"))
        self.assertEqual(shown[at + 1].split(), [f"{self.lift:08X}", "weighed", "lift.c:5"])
        self.assertEqual(shown[at + 2].split(), ["inlined", "in", "lift", "lift.c:10"])

    def test_as_events_and_in_the_log(self) -> None:
        out = self.listen(f"pc: {self.lift:08x}", "--json", "--log", "heard.txt")
        self.assertIn('"event": "place"', out)
        self.assertIn('"function": "weighed"', out)
        self.assertIn("= ", (self.folder / "heard.txt").read_text())

    def test_a_file_of_another_program_is_told_first(self) -> None:
        out = self.heard_after_an_upload()
        self.assertIn("lift.elf is not of what the board was given last (journal 1, hive-scale.hex", out)

    def test_a_file_whose_mark_the_image_holds_is_not_doubted(self) -> None:
        """The application descriptor of an ESP holds the SHA-256 of its ELF file; here any image does."""
        import hashlib

        from greenstep.core.image.edit import with_bytes

        mark = hashlib.sha256((self.folder / "lift.elf").read_bytes()).digest()
        self.write_hex("hive-scale.hex", with_bytes(self.scale, 0x200, mark))
        out = self.heard_after_an_upload()
        self.assertNotIn("lift.elf is", out)

    def test_a_file_that_is_built_anew_is_read_again(self) -> None:
        says = quote(f"says=pc: {self.lift:08x}", safe="")
        port = f"bench:hive-scale?pace=real&fault={says}"
        arguments = ("--chip", "atmega328p", "--port", port, "--reset", "--elf", "lift.elf")
        heard = Heard(self.start_tool("listen", *arguments))
        self.addCleanup(lambda: heard.process.poll() is None and heard.end(signal.SIGKILL))
        heard.wait_for("lift.c:5")
        (self.folder / "lift.c").write_text("// ten hives\n" * 30 + CODE)
        words = ["gcc", "-O2", "-g", "-no-pie", "-o", "new.elf", "lift.c"]
        subprocess.run(words, cwd=self.folder, check=True)
        (self.folder / "new.elf").replace(self.folder / "lift.elf")
        heard.wait_for("lift.c:35")
        heard.end()

    def test_a_file_that_is_missing_or_none(self) -> None:
        for name, words in (("none.elf", "No such file"), ("lift.c", "cannot be read as an ELF file")):
            with self.subTest(name=name):
                done = self.run_tool("listen", "--port", "bench:hive-scale", "--elf", name)
                self.assertEqual(done.status, 2, done.text)
                self.assertIn(words, done.err)


if __name__ == "__main__":
    unittest.main()
