"""Folders as file systems of partitions: packed, found by name, uploaded, looked into."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
import unittest
import zlib
from pathlib import Path

from greenstep.core.image import Image, ImageFault, Piece
from greenstep.core.image.file_system import BLOCK, KINDS, file_systems_in, pack, unpack

from .support import ToolTest

APIARY = Path(__file__).parents[2] / "examples" / "apiary" / "images"
TABLE = "gateway-partitions.bin"
PAGES = 0x290000
REACH = ("--chip", "esp32", "--hookup", "cross-pair")


class Folders(ToolTest):
    def setUp(self) -> None:
        super().setUp()
        for name in (TABLE, "gateway-loader.bin", "gateway.bin"):
            shutil.copy(APIARY / name, self.folder / name)
        web = self.folder / "web"
        (web / "css").mkdir(parents=True)
        (web / "index.html").write_text("<h1>hives</h1>\n" * 40)
        (web / "css" / "hive.css").write_text("body { color: green }\n" * 300)
        (web / ".DS_Store").write_text("litter")
        self.files = {path.relative_to(web).as_posix(): path.read_bytes() for path in web.rglob("*.*ml")}
        self.files["css/hive.css"] = (web / "css" / "hive.css").read_bytes()

    def board(self, pages: str, table: bool = True) -> None:
        known = f'{{ file = "{TABLE}", at = 0x8000 }}, ' if table else ""
        self.project(
            f'[board.apiary-gateway]\nchip = "esp32"\nport = "bench:apiary-gateway?memory={self.folder}/gateway.chip"\n'
            f'hookup = "cross-pair"\nimages = [{{ file = "gateway-loader.bin", at = 0x1000 }}, {known}'
            f'{{ file = "gateway.bin", at = 0x10000 }}, {pages}]\n'
        )

    def unpacked(self, *image: str) -> dict[str, bytes]:
        place = self.folder / "unpacked"
        done = self.run_tool("image", "unpack", *image, "--save", str(place), "--replace")
        self.assertEqual(done.status, 0, done.text)
        return {path.relative_to(place).as_posix(): path.read_bytes() for path in place.rglob("*") if path.is_file()}

    def test_both_kinds_give_the_files_back_and_never_change_by_themselves(self) -> None:
        for kind in KINDS:
            with self.subTest(kind=kind):
                for name in ("once.bin", "twice.bin"):
                    image = ("web", "as", kind, "at", "pages", TABLE, "at", "0x8000")
                    saved = self.run_tool("image", "cut", *image, "--from", "0x290000", "--save", name, "--replace")
                    self.assertEqual(saved.status, 0, saved.text)
                once = (self.folder / "once.bin").read_bytes()
                self.assertEqual(len(once), 0x100000)
                self.assertEqual(once, (self.folder / "twice.bin").read_bytes())
                self.assertEqual(self.unpacked("once.bin"), self.files)
                shown = self.run_tool("image", "show", "once.bin")
                self.assertIn(f"{kind} of 1 MiB: 2 files", shown.out)

    def test_in_the_middle_of_a_backup_and_with_a_first_block_that_is_gone(self) -> None:
        for kind in KINDS:
            made = pack("web", kind, self.files, ("css", "empty"), 64 * BLOCK)
            (self.folder / "backup.bin").write_bytes(b"\xff" * 3 * BLOCK + made + b"\xff" * BLOCK)
            with self.subTest(kind=kind):
                self.assertEqual(self.unpacked("backup.bin"), self.files)
        made = pack("web", "littlefs", self.files, ("css", "empty"), 64 * BLOCK)
        (self.folder / "pages.bin").write_bytes(b"\xff" * BLOCK + made[BLOCK:])
        self.assertEqual(self.unpacked("pages.bin"), self.files)
        (self.folder / "empty.bin").write_bytes(pack("web", "littlefs", {}, (), 64 * BLOCK))
        self.assertIn("nothing to save", self.run_tool("image", "unpack", "empty.bin", "--save", "out").out)

    def test_a_damaged_one_does_not_hide_the_others(self) -> None:
        made = pack("web", "littlefs", self.files, ("css",), 64 * BLOCK)
        broken = pack("web", "fat", self.files, ("css",), 64 * BLOCK)
        broken = broken[:BLOCK] + b"\x5a" * BLOCK + broken[2 * BLOCK :]
        (self.folder / "backup.bin").write_bytes(made + broken)
        done = self.run_tool("image", "unpack", "backup.bin", "--save", "out")
        self.assertEqual(done.status, 5, done.text)
        self.assertIn("this fat cannot be read", done.err)
        self.assertIn("00040000  fat, damaged", done.out)
        kept = self.folder / "out" / "00000000" / "index.html"
        self.assertEqual(kept.read_bytes(), self.files["index.html"])

    def test_fat_of_every_width(self) -> None:
        """The smallest, and the largest FAT12; the smallest FAT16, and one whose sectors are counted in 32 bits."""
        self.files["css/a longer name than eight and three.css"] = bytes(range(256)) * 33
        sectors = {0x10: b"FAT12", 4091: b"FAT12", 4092: b"FAT16", 0x10003: b"FAT16"}
        for number, width in sectors.items():
            with self.subTest(sectors=number):
                made = pack("web", "fat", self.files, ("css", "empty"), number * BLOCK)
                self.assertEqual({kept.path: kept.data for kept in unpack("web", "fat", made)}, self.files)
                self.assertEqual(made[54:59], width)
                self.assertEqual(made.count(made[43:54]), 2)  # the volume label, in the boot sector and in the root

    def test_names_in_a_fat(self) -> None:
        """Short ones, long ones, other scripts, one that is as long as can be; many in the root; and what it refuses."""
        names = [
            "A",
            "README.TXT",
            "readme.md",
            "a.b.c",
            "Bienenstöcke.html",
            "蜂🐝.txt",
            "x" * 251 + ".bin",
            "LONG~1.TXT",
        ]
        files = {name: name.encode() * 300 for name in names}
        files |= {f"{folder}/{name}": b"in" for folder in ("css", "CSS 2/deep er") for name in names}
        files |= {f"frame number {n:04}.csv": b"%d" % n for n in range(700)}
        made = pack("web", "fat", files, ("empty/in it",), 0x1000000)
        self.assertEqual({kept.path: kept.data for kept in unpack("web", "fat", made)}, files)
        self.assertEqual(pack("web", "fat", files, ("empty/in it",), 0x1000000), made)
        for bad in ("a?b", "a:b", "end.", "end ", "x" * 256, "tab\t"):
            with self.subTest(bad), self.assertRaises(ImageFault):
                pack("web", "fat", {bad: b""}, (), 0x20000)
        with self.assertRaisesRegex(ImageFault, "upper and lower case"):
            pack("web", "fat", {"Hive.txt": b"", "hive.TXT": b""}, (), 0x20000)

    def test_wear_levelling_is_seen_wherever_its_sectors_are(self) -> None:
        """By its document: the empty sector goes up a place at a time, each time the sector behind it moves into it;
        from the top it goes round, and all have moved by one."""
        for size in (0x20000, 0x180000):
            made = bytearray(pack("web", "levelled-fat", self.files, ("css",), size))
            state = 0x1000 * -(-(64 + size // 0x1000 * 16) // 0x1000)
            sectors = (size - 2 * state - 0x2000) // 0x1000
            for moves in (0, 1, sectors - 1, sectors, sectors + 1, sectors + 5, 3 * sectors + 7):
                whole, empty, turns = bytearray(made), 0, 0
                for _ in range(moves):
                    behind = (empty + 1) % (sectors + 1)
                    whole[empty * 0x1000 : (empty + 1) * 0x1000] = whole[behind * 0x1000 : (behind + 1) * 0x1000]
                    empty, turns = behind, turns + (behind == 0)
                for copy in (0, 1):
                    at = size - 0x1000 - (copy + 1) * state
                    whole[at + 8 : at + 12] = turns.to_bytes(4, "little")
                    whole[at + 60 : at + 64] = zlib.crc32(whole[at : at + 60], 0xFFFFFFFF).to_bytes(4, "little")
                    for number in range(empty):
                        whole[at + 64 + number * 16 : at + 80 + number * 16] = bytes(range(16))
                image = Image("flash", (Piece(0x290000, bytes(0x3000) + bytes(whole) + bytes(0x1000)),))
                with self.subTest(size=size, moves=moves):
                    (found,) = file_systems_in(image)
                    self.assertEqual((found.address, found.kind), (0x293000, "levelled-fat"))
                    self.assertEqual({k.path: k.data for k in unpack("web", found.kind, found.data)}, self.files)

    @unittest.skipUnless(shutil.which("fsck.fat") and shutil.which("mcopy"), "needs dosfstools and mtools")
    def test_others_find_the_same_in_a_fat(self) -> None:
        for size in (0x20000, 0x100000, 0x1000000, 0x2200000):
            with self.subTest(size=size), tempfile.TemporaryDirectory() as place:
                image, out = Path(place) / "fat", Path(place) / "out"
                image.write_bytes(pack("web", "fat", self.files, ("css",), size))
                out.mkdir()
                checked = subprocess.run(["fsck.fat", "-n", str(image)], capture_output=True, text=True, check=False)
                self.assertEqual(checked.returncode, 0, checked.stdout)
                words = ["mcopy", "-s", "-i", str(image), "::*", str(out)]
                subprocess.run(words, check=True, env={**os.environ, "MTOOLS_SKIP_CHECK": "1"})
                read = {p.relative_to(out).as_posix(): p.read_bytes() for p in out.rglob("*") if p.is_file()}
                self.assertEqual(read, self.files)

    def test_an_upload_into_the_partition_of_its_own_table(self) -> None:
        self.board('{ folder = "web", as = "littlefs", at = "pages" }')
        done = self.run_tool("upload", "apiary-gateway")
        self.assertEqual(done.status, 0, done.text)
        self.assertIn("web/ packed as littlefs: 2 files", done.out)
        (self.folder / "web" / "index.html").write_text("<h1>eleven hives</h1>\n")
        again = self.run_tool("upload", "apiary-gateway")
        self.assertRegex(again.out, r"\d of \d+ erase units differ")
        self.assertIn("web at pages: 2 files, ", self.run_tool("boards").out)

    def test_a_name_is_looked_up_in_the_chips_table(self) -> None:
        self.board('{ folder = "web", as = "littlefs", at = "pages" }')
        self.assertEqual(self.run_tool("upload", "apiary-gateway").status, 0)
        port = f"bench:apiary-gateway?memory={self.folder}/gateway.chip"
        self.assertIn("partition table", self.run_tool("plan", *REACH, "web", "as", "littlefs", "at", "pages").err)
        done = self.run_tool("upload", *REACH, "--port", port, "web", "as", "littlefs", "at", "pages")
        self.assertEqual(done.status, 0, done.text)
        self.assertIn("partition table of the chip: hives, radio, gateway, pages", done.text)
        self.assertIn("compared before, 1,048,576 bytes equal", done.out)
        wrong = self.run_tool("upload", *REACH, "--port", port, "gateway.bin", "at", "page")
        self.assertEqual(wrong.status, 2, wrong.text)
        self.assertIn("there is pages", wrong.err)
        (self.folder / "web" / "index.html").write_text("<h1>eleven hives</h1>\n")
        pages = ("web", "as", "littlefs", "at", "pages", "--if-changed")
        changed = self.run_tool("upload", *REACH, "--port", port, *pages)
        self.assertEqual(changed.status, 0, changed.text)
        self.assertEqual(changed.text.count("partition table of the chip"), 1)
        verified = self.run_tool("verify", *REACH, "--port", port, "gateway.bin", "at", "gateway")
        self.assertEqual(verified.status, 0, verified.text)

    def test_too_much_says_by_how_much(self) -> None:
        (self.folder / "web" / "song.bin").write_bytes(bytes(range(256)) * 400)
        for kind in KINDS:
            with self.subTest(kind=kind):
                self.board(f'{{ folder = "web", as = "{kind}", at = 0x290000, size = 0x10000 }}')
                refused = self.run_tool("upload", "apiary-gateway")
                self.assertEqual(refused.status, 5, refused.text)
                self.assertRegex(refused.err, rf"[4-8]\d,\d\d\d bytes too much for 64 KiB of {kind}")

    def test_a_kit_takes_the_folder_along_packed(self) -> None:
        self.board('{ folder = "web", as = "fat", at = "pages" }')
        made = self.run_tool("kit", "make", "apiary-gateway", "--save", "gateway.kit")
        self.assertEqual(made.status, 0, made.text)
        shutil.rmtree(self.folder / "web")
        done = self.run_tool("upload", "gateway.kit", "--port", "bench:apiary-gateway")
        self.assertEqual(done.status, 0, done.text)

    def test_what_is_written_wrong_is_named(self) -> None:
        for pages, status, words in (
            ('{ folder = "web", as = "zip", at = "pages" }', 2, 'as = "littlefs", "fat" or "levelled-fat"'),
            ('{ folder = "wed", as = "fat", at = "pages" }', 2, "there is no folder"),
            ('{ folder = "web", as = "fat", at = 0x280000 }', 2, "no partition begins at 0x280000"),
            ('{ folder = "web", as = "littlefs", at = "hive" }', 2, "there is hives"),
            ('{ folder = "web", as = "littlefs", at = 0x290000, size = 5000 }', 5, "a multiple of 4096 bytes"),
        ):
            with self.subTest(pages=pages):
                self.board(pages)
                refused = self.run_tool("plan", "apiary-gateway")
                self.assertEqual(refused.status, status, refused.text)
                self.assertIn(words, refused.err)
        cut = self.folder / "cut.bin"
        self.run_tool("image", "cut", "web", "as", "littlefs", "at", "pages", TABLE, "at", "0x8000",
                      "--from", "0x290000", "--size", "0x9000", "--save", "cut.bin")  # fmt: skip
        self.assertTrue(cut.exists())
        damaged = self.run_tool("image", "unpack", "cut.bin")
        self.assertIn("this littlefs is cut short: 36,864 of 1,048,576 bytes", damaged.err)
        self.assertIn("no littlefs or FAT", self.run_tool("image", "unpack", "gateway.bin").err)


if __name__ == "__main__":
    unittest.main()
