"""Kits: made, shown, uploaded from; and every way in which one may not be believed."""

from __future__ import annotations

import tempfile
import unittest
import zipfile
from collections.abc import Callable
from pathlib import Path

import pexpect

from greenstep.core.errors import RefusedFault, UsageFault
from greenstep.store.kit import MANIFEST, Notes, is_kit, read_kit
from greenstep.store.kit_making import make_kit

from .support import COMMAND, ToolTest

TABLES = {
    "hive-scale": {"chip": "atmega328p", "port": "COM3", "images": ["scale.bin", {"file": "pages.bin", "at": 0x4000}]}
}


class Believed(unittest.TestCase):
    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory(prefix="greenstep-test-")
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        (self.folder / "scale.bin").write_bytes(b"bees" * 100)
        (self.folder / "pages.bin").write_bytes(b"honey" * 100)
        self.kit = self.folder / "a.kit"
        make_kit(self.kit, "hive-scale 2.4", "2026-11-02", TABLES, self.folder, Notes("hello", "bye"), False)

    def again(self, change: Callable[[dict[str, bytes]], None]) -> Path:
        """The kit with its members changed."""
        with zipfile.ZipFile(self.kit) as file:
            members = {name: file.read(name) for name in file.namelist()}
        change(members)
        path = self.folder / "changed.kit"
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as file:
            for name, data in members.items():
                file.writestr(name, data)
        return path

    def test_what_is_put_in_comes_out(self) -> None:
        kit = read_kit(self.kit)
        self.assertEqual((kit.name, kit.notes.opening, kit.notes.closing), ("hive-scale 2.4", "hello", "bye"))
        self.assertEqual(kit.members, {"images/scale.bin": b"bees" * 100, "images/pages.bin": b"honey" * 100})
        self.assertNotIn("port", kit.tables["hive-scale"])
        said = kit.unpack(self.folder / "out" if (self.folder / "out").mkdir() is None else self.folder)["hive-scale"]
        assert said.images is not None
        self.assertEqual(
            [(one.file.read_bytes()[:4], one.at) for one in said.images], [(b"bees", None), (b"hone", 0x4000)]
        )
        twice = self.folder / "b.kit"
        make_kit(twice, "hive-scale 2.4", "2026-11-02", TABLES, self.folder, Notes("hello", "bye"), False)
        self.assertEqual(twice.read_bytes(), self.kit.read_bytes())
        self.assertTrue(is_kit(twice))
        self.assertFalse(is_kit(self.folder / "scale.bin"))

    def test_two_files_of_one_name(self) -> None:
        (self.folder / "b").mkdir()
        (self.folder / "b" / "scale.bin").write_bytes(b"other")
        tables = {"a": {"images": ["scale.bin"]}, "b": {"images": ["b/scale.bin"]}, "c": {"images": ["scale.bin"]}}
        kit = make_kit(self.folder / "two.kit", "two", "", tables, self.folder, Notes(), False)
        self.assertEqual(
            [table["images"][0] for table in kit.tables.values()],
            ["images/scale.bin", "images/2-scale.bin", "images/scale.bin"],
        )

    def test_what_is_refused(self) -> None:
        def text(old: str, new: str) -> Callable[[dict[str, bytes]], None]:
            return lambda members: members.update({MANIFEST: members[MANIFEST].replace(old.encode(), new.encode())})

        cases: dict[str, tuple[Callable[[dict[str, bytes]], None], str]] = {
            "another byte": (lambda m: m.update({"images/scale.bin": b"beez" * 100}), "is damaged"),
            "a bomb": (lambda m: m.update({"images/scale.bin": bytes(50_000_000)}), "unpacks to more than it says"),
            "a member more": (lambda m: m.update({"images/more.bin": b"x"}), "its manifest does not name"),
            "a member less": (lambda m: m.pop("images/pages.bin"), "lacks a file"),
            "no manifest": (lambda m: m.pop(MANIFEST), "is not a kit"),
            "not TOML": (lambda m: m.update({MANIFEST: b"format = ["}), "cannot be read"),
            "another format": (text("format = 1", "format = 2"), "is of format 2"),
            "an unknown key": (text("format = 1", "format = 1\nrun = 'rm'"), "unknown 'run'"),
            "no board": (lambda m: m.update({MANIFEST: m[MANIFEST].split(b"[board")[0]}), "holds no board"),
            "a port": (text("[board.hive-scale]", "[board.hive-scale]\nport = 'COM3'"), "names a port"),
            "an image elsewhere": (text("\"images/scale.bin\",", "\"/etc/passwd\","), "names a file that it does not hold"),
            "enormous": (text("bytes = 400", "bytes = 999999999"), "would unpack to more"),
            "a wrong kind": (text('name = "hive-scale 2.4"', "name = 7"), "wrong kind"),
            "an answer for nobody": (text("[board.hive-scale]", "[answer]\nx = 'y'\n[board.hive-scale]"), "wrong kind"),
        }  # fmt: skip
        for name, (change, said) in cases.items():
            with self.subTest(name), self.assertRaises(RefusedFault) as caught:
                read_kit(self.again(change))
            self.assertIn(said, caught.exception.findings[0].cause)

    def test_paths_that_leave_the_folder(self) -> None:
        for path in (
            "images/../../x.bin",
            "/x.bin",
            "images/..",
            "other/x.bin",
            "images/a/b.bin",
            "images/.hidden",
            "images\\x.bin",
        ):

            def move(members: dict[str, bytes], path: str = path) -> None:
                members[path] = members.pop("images/scale.bin")
                written = path.replace("\\", "\\\\")
                members[MANIFEST] = members[MANIFEST].replace(b'images/scale.bin"', written.encode() + b'"')

            with self.subTest(path), self.assertRaises(RefusedFault):
                read_kit(self.again(move))
        self.assertEqual(list(self.folder.parent.glob("x.bin")), [])

    def test_cut_short_at_any_place(self) -> None:
        whole = self.kit.read_bytes()
        for size in range(0, len(whole), 23):
            cut = self.folder / "cut.kit"
            cut.write_bytes(whole[:size])
            with self.subTest(size), self.assertRaises(RefusedFault):
                read_kit(cut)
            self.assertTrue(is_kit(cut))

    def test_damaged_at_any_place(self) -> None:
        whole = self.kit.read_bytes()
        sound = read_kit(self.kit)
        for place in range(0, len(whole), 7):
            broken = self.folder / "broken.kit"
            broken.write_bytes(whole[:place] + bytes([whole[place] ^ 0x55]) + whole[place + 1 :])
            with self.subTest(place):
                try:
                    self.assertEqual(read_kit(broken).members, sound.members)  # a time stamp, say
                except RefusedFault as refused:
                    self.assertIn("broken.kit", refused.findings[0].cause)

    def test_a_directory_that_says_what_no_kit_says(self) -> None:
        """By the ZIP specification: flags at 8, method at 10, name at 46 of an entry in the directory."""
        whole = self.kit.read_bytes()
        entry = whole.index(b"PK\x01\x02")
        for said, changes in (
            ("a name that is no UTF-8", {9: 0x08, 46: 0x88}),
            ("packed by LZMA, which it is not", {10: 14}),
            ("packed in a way that is not known", {10: 77}),
            ("encrypted", {8: 0x01}),
        ):
            broken = bytearray(whole)
            for offset, value in changes.items():
                broken[entry + offset] = value
            path = self.folder / "broken.kit"
            path.write_bytes(broken)
            with self.subTest(said):
                self.assertTrue(is_kit(path))
                with self.assertRaisesRegex(RefusedFault, "broken.kit is damaged"):
                    read_kit(path)

    def test_what_cannot_be_made(self) -> None:
        for tables, notes, said in (
            ({"a": {"images": ["none.bin"]}}, Notes(), "cannot be read"), ({"a": {}}, Notes(), "no image"),
            (TABLES, Notes(answers={"x": "y"}), "no such board"), (TABLES, Notes(question="which?"), "no answer"),
        ):  # fmt: skip
            with self.subTest(said), self.assertRaises(UsageFault) as caught:
                make_kit(self.folder / "no.kit", "", "", tables, self.folder, notes, False)
            self.assertIn(said, caught.exception.findings[0].cause)


class Used(ToolTest):
    def make(self, *options: str) -> None:
        self.project(
            """
            [board.hive-scale]
            chip = "atmega328p"
            images = ["hive-scale.hex"]
            expect = "hive scale 2.4"
            [board.old-scale]
            chip = "atmega168"
            images = ["old.bin"]
            [board.flat-scale]
            chip = "atmega328p"
            images = ["hive-scale.hex"]
            """
        )
        (self.folder / "old.bin").write_bytes(b"\x0c\x94\x34\x00" * 50)
        run = self.run_tool("kit", "make", *options)
        self.assertEqual(run.status, 0, run.text)
        (self.folder / "greenstep.toml").unlink()
        (self.folder / "hive-scale.hex").unlink()

    def test_made_shown_and_uploaded_by_one_command(self) -> None:
        self.make(
            "hive-scale",
            "--save",
            "a.kit",
            "--name",
            "scale 2.4",
            "--say-first",
            "Unplug the heater.",
            "--say-last",
            "Hang it up.",
        )
        shown = self.run_tool("kit", "show", "a.kit").out
        for said in (
            "a.kit   scale 2.4",
            "chip             atmega328p",
            "images           hive-scale.hex",
            "says     | Unplug the heater.",
        ):
            self.assertIn(said, shown)
        bench = self.bench("hive-scale")
        run = self.run_tool("upload", "a.kit", "--port", bench.port("hive-scale"))
        self.assertEqual(run.status, 0, run.text)
        for said in ("Unplug the heater.\n", "hive-scale runs hive-scale.hex", "Journal 1.", "Hang it up.\n"):
            self.assertIn(said, run.out)
        self.assertLess(run.out.index("Unplug"), run.out.index("● port"))

    def test_the_chip_says_which_board_it_is_and_else_a_person(self) -> None:
        self.make("hive-scale", "old-scale", "flat-scale", "--save", "b.kit")
        bench = self.bench("hive-scale")
        reach = ("--port", bench.port("hive-scale"))
        alone = self.run_tool("upload", "b.kit", *reach)
        self.assertEqual(
            (alone.status, "hive-scale: hive-scale, flat-scale: flat-scale" in alone.text), (2, True), alone.text
        )
        self.assertIn("signature 1E 95 0F", alone.out)
        child = pexpect.spawn(
            COMMAND,
            ["upload", "b.kit", *reach],
            cwd=str(self.folder),
            timeout=60,
            env=self.environment(TERM="xterm"),  # type: ignore[arg-type]
        )
        child.expect("Which board is it")
        child.sendline("2")
        child.expect("flat-scale holds hive-scale.hex|flat-scale runs hive-scale.hex")
        child.expect(pexpect.EOF)
        child.close()
        named = self.run_tool("upload", "b.kit", "nobody", *reach)
        self.assertEqual(
            (named.status, "it has hive-scale, old-scale, flat-scale" in named.text), (2, True), named.text
        )

    def test_a_backup_first_and_nothing_that_is_there_already(self) -> None:
        self.make("hive-scale", "--save", "e.kit")
        bench = self.bench("hive-scale")
        first = self.run_tool("upload", "e.kit", "--port", bench.port("hive-scale"), "--backup-first", "before.hex")
        self.assertEqual((first.status, "saved as before.hex" in first.out), (0, True), first.text)
        again = self.run_tool("upload", "e.kit", "--port", bench.port("hive-scale"), "--if-changed", "--json")
        self.assertEqual((again.status, again.event("compared")["same"]), (0, True), again.text)

    def test_a_chip_for_which_there_is_nothing(self) -> None:
        self.make("old-scale", "hive-scale", "--flash-size", "hive-scale=16K", "--save", "c.kit")
        bench = self.bench("hive-scale")
        run = self.run_tool("upload", "c.kit", "--port", bench.port("hive-scale"))
        self.assertEqual(
            (run.status, "no board of this kit has the ATmega328P with 32 KiB" in run.text), (5, True), run.text
        )
        beside = self.run_tool("upload", "c.kit", "--images", "hive-scale.hex")
        self.assertEqual((beside.status, "a kit brings its own images" in beside.text), (2, True), beside.text)
        (self.folder / "d.kit").write_bytes(b"not a zip")
        self.assertEqual(self.run_tool("upload", "d.kit").status, 5)


if __name__ == "__main__":
    unittest.main()
