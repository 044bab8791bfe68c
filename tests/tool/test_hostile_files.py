"""Files that are damaged, endless, or made to harm: each is refused in words, and nothing of the person's is touched."""

from __future__ import annotations

import os
import random
import shutil
import sqlite3
import stat
import struct
import subprocess
import unittest
from contextlib import closing
from pathlib import Path
from unittest.mock import patch

from benchmarks.hostile_files import samples, try_one
from greenstep.core.image import ImageFault
from greenstep.core.image.file_system import pack, unpack
from greenstep.store.journal import JournalTrouble, set_aside
from greenstep.store.project import TomlTrouble, toml_table

from .support import COMMAND, ToolTest

SEEDS = 12
UPLOAD = ("upload", "hive-scale.hex", "--chip", "atmega328p", "--port", "bench:hive-scale")


class Changed(unittest.TestCase):
    def test_a_sample_of_every_kind(self) -> None:
        """The first of the 50,000 that `make faults` tries; each through a command."""
        kept = patch.dict(os.environ)
        kept.start()
        self.addCleanup(kept.stop)
        for kind, sample in samples().items():
            for seed in range(SEEDS) if sample else ():
                ended, words = try_one(kind, seed)
                self.assertNotIn("WRONG", ended, words)


class Tables(ToolTest):
    DEEP = "[" * 3000 + "]" * 3000

    def test_what_is_nested_too_deeply(self) -> None:
        self.project(f'[board.a]\nchip = "avr"\nset = {{ x = {self.DEEP} }}\n')
        for words in (
            ("boards",), ("upload", "a"), (*UPLOAD, "--set", f"x={self.DEEP}"),
            (*UPLOAD, "--hookup", "{ a = " * 2000 + "1" + " }" * 2000), (*UPLOAD, "--talk", "{ a = " * 500),
        ):  # fmt: skip
            with self.subTest(words[:2]):
                run = self.run_tool(*words)
                self.assertEqual((run.status, "itself failed" in run.text), (2, False), run.text)

    def test_what_no_person_writes(self) -> None:
        for text in (
            f"a = {self.DEEP}", f"a = {'[' * 60}{']' * 60}", ".".join("a" * 300) + " = 1", f"a = {'9' * 6000}",
            "a.b" * 2 + "\n[" , "x = '" + "y" * (1 << 20) + "'",
        ):  # fmt: skip
            with self.subTest(text[:20]), self.assertRaises(TomlTrouble):
                toml_table(text)
        self.assertEqual(toml_table(f"a = {'[' * 20}{']' * 20}\nb = '{'.' * 150}'")["b"], "." * 150)


class Journals(ToolTest):
    def setUp(self) -> None:
        super().setUp()
        self.journal = self.folder / "journal.sqlite"
        self.upload = ("upload", "brood-probe.hex", "--port", "bench:brood-probe", "--compare", "journal")
        self.assertEqual(self.run_tool(*self.upload).status, 0)

    def damaged(self) -> None:
        with closing(sqlite3.connect(self.journal)) as file:
            file.execute("PRAGMA journal_mode = DELETE")
        data = self.journal.read_bytes()
        at = data.index(b"brood-probe.hex")
        self.journal.write_bytes(data[:at] + b"\xff\xfe" + data[at + 2 :])

    def test_a_damaged_one_is_put_aside_and_a_new_one_is_begun(self) -> None:
        self.damaged()
        run = self.run_tool(*self.upload)
        self.assertEqual((run.status, "and a new one is begun" in run.err), (0, True), run.text)
        (aside,) = self.folder.glob("journal-damaged-*.sqlite")
        self.assertIn(b"\xff\xfeood-probe.hex", aside.read_bytes())
        listed = self.run_tool("journal")
        self.assertEqual((listed.status, listed.out.count("brood-probe.hex")), (0, 1), listed.text)
        again = self.run_tool(*self.upload)
        self.assertNotIn("damaged", again.text)

    def test_several_commands_at_once_put_it_aside_once(self) -> None:
        """The second finds a whole one, and leaves it where it is."""
        self.damaged()
        set_aside(self.journal)
        self.assertEqual(self.run_tool(*self.upload).status, 0)
        with self.assertRaisesRegex(JournalTrouble, "is whole by now"):
            set_aside(self.journal)
        self.assertEqual(len(list(self.folder.glob("journal-damaged-*.sqlite"))), 1)
        self.assertEqual(self.run_tool("journal").out.count("brood-probe.hex"), 1)

    def test_it_is_shown_as_damaged(self) -> None:
        self.damaged()
        for words in (("journal",), ("journal", "1"), ("journal", "--clear", "--yes")):
            with self.subTest(words):
                run = self.run_tool(*words)
                self.assertEqual((run.status, "cannot be read" in run.text), (2, True), run.text)

    def test_another_file_in_its_place_is_left_where_it_is(self) -> None:
        self.journal.write_text("my notes about honey")
        run = self.run_tool(*self.upload)
        self.assertEqual((run.status, "is not a database" in run.err), (0, True), run.text)
        self.assertEqual(self.journal.read_text(), "my notes about honey")


class NoFiles(ToolTest):
    def test_pipes_and_devices_are_not_read(self) -> None:
        os.mkfifo(self.folder / "pipe.hex")
        for file in ("pipe.hex", "/dev/zero", "/dev/tty"):
            for words in (
                ("image", "show", file), (*UPLOAD[:1], file, *UPLOAD[2:]), ("kit", "show", file),
                ("trace", "show", file), ("boards", "--project", file), (*UPLOAD, "--set", f"old=@{file}"),
                ("listen", "--port", "bench:hive-scale", "--send-file", file, "--seconds", "1"),
                ("listen", "--port", "bench:hive-scale", "--elf", file, "--seconds", "1"),
                ("batch", "hive-scale.hex", "--chip", "avr", "--ports", "x", "--values", file),
            ):  # fmt: skip
                with self.subTest(words):
                    run = self.run_tool(*words)
                    self.assertEqual((run.status, "itself failed" in run.text), (2, False), run.text)

    def test_pipes_and_devices_are_not_replaced(self) -> None:
        pipe = self.folder / "pipe.bin"
        os.mkfifo(pipe)
        for name in ("pipe.svg", "pipe.csv", "pipe.hex"):
            os.mkfifo(self.folder / name)
        self.project('[board.a]\nchip = "atmega328p"\nport = "bench:hive-scale"\nimages = ["hive-scale.hex"]\n')
        (self.folder / "out").mkdir()
        os.mkfifo(self.folder / "out" / "a.txt")
        (self.folder / "web.bin").write_bytes(pack("web", "littlefs", {"a.txt": b"bees"}, (), 65536))
        for words in (
            ("image", "convert", "hive-scale.hex", "--save", "pipe.bin", "--replace"),
            ("image", "map", "a", "--save", "pipe.svg"), ("backup", "a", "--save", "pipe.bin", "--replace"),
            ("kit", "make", "a", "--save", "pipe.bin", "--replace"),
            ("image", "unpack", "web.bin", "--save", "out", "--replace"),
            ("batch", "a", "--ports", "bench:hive-scale", "--save", "pipe.csv", "--replace"),
            ("upload", "a", "--trace", "pipe.hex"),
            ("listen", "a", "--save", "pipe.bin", "--replace", "--seconds", "1"),
        ):  # fmt: skip
            with self.subTest(words):
                run = self.run_tool(*words)
                self.assertEqual((run.status, "itself failed" in run.text), (2, False), run.text)
        for path in (*self.folder.glob("pipe.*"), self.folder / "out" / "a.txt"):
            self.assertTrue(stat.S_ISFIFO(path.stat().st_mode), path)

    @unittest.skipUnless(Path("/dev/full").exists(), "Linux has a disk that is always full")
    def test_output_to_a_full_disk(self) -> None:
        for words, status in ((("chips",), 1), (("--help",), 1), (("chips", "--json"), 1), (UPLOAD, 0)):
            with self.subTest(words), Path("/dev/full").open("w") as full:
                done = subprocess.run(
                    [COMMAND, *words], cwd=self.folder, env=self.environment(), stdout=full, stderr=subprocess.PIPE,
                    text=True, check=False,
                )  # fmt: skip
                self.assertEqual(done.stderr.strip(), "the output cannot be written: No space left on device")
                self.assertEqual(done.returncode, status)

    def test_places_where_nothing_can_be_written(self) -> None:
        for place in ("hive-scale.hex/b.hex", "none/b.hex", "hive-scale.hex/b.svg"):
            command = "map" if place.endswith("svg") else "convert"
            with self.subTest(place):
                run = self.run_tool("image", command, "hive-scale.hex", "--save", place)
                self.assertEqual((run.status, "itself failed" in run.text), (2, False), run.text)

    def test_only_known_kinds_of_urls(self) -> None:
        for port in (
            f"spy:///dev/null?file={self.folder}/spied",
            "hwgrep://.*",
            "alt:///dev/null",
            "file:///etc/passwd",
        ):
            with self.subTest(port):
                run = self.run_tool("greet", "--chip", "avr", "--port", port)
                self.assertEqual(
                    (run.status, "URLs begin with rfc2217://, socket://" in run.text), (2, True), run.text
                )
        self.assertFalse((self.folder / "spied").exists())


class FileSystems(unittest.TestCase):
    def test_files_that_share_their_blocks_are_not_unpacked(self) -> None:
        """Each entry of the root directory is given the first cluster and the length of the largest file."""
        files = {"BIG": random.Random(1).randbytes(600_000), **{f"F{n}": b"x" for n in range(40)}}
        made = bytearray(pack("web", "fat", files, (), 2 << 20))
        at = made.index(b"BIG        ")
        cluster, size = made[at + 26 : at + 28], made[at + 28 : at + 32]
        self.assertEqual(struct.unpack("<I", size), (600_000,))
        for number in range(40):
            entry = made.index(f"F{number}".ljust(11).encode())
            made[entry + 26 : entry + 32] = cluster + size
        with self.assertRaises(ImageFault) as refused:
            unpack("web", "fat", bytes(made))
        self.assertIn("share their blocks", refused.exception.finding.cause)


@unittest.skipUnless(shutil.which("gcc"), "needs gcc")
class Stabs(ToolTest):
    def test_an_old_kind_of_line_numbers_is_named(self) -> None:
        (self.folder / "a.c").write_text("int main(void) { return 0; }\n")
        for option, said in (
            ("-gstabs", "are stabs, which are not read: compile with -gdwarf"),
            ("-g0", "compile with -g"),
        ):
            made = subprocess.run(["gcc", option, "-w", "-o", "a.elf", "a.c"], cwd=self.folder, check=False)
            if made.returncode:
                self.skipTest("this gcc makes none")
            port = "bench:hive-scale?fault=says%3Dpc%3A%200x00401000"
            run = self.run_tool(
                "listen", "--chip", "atmega328p", "--port", port, "--reset", "--seconds", "2", "--elf", "a.elf"
            )
            self.assertIn(said, run.out)


if __name__ == "__main__":
    unittest.main()
