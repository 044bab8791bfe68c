"""`greenstep image` and `loader room`: files looked into, compared, changed; figures; and files of every format uploaded."""

from __future__ import annotations

import struct
import unittest
from pathlib import Path

from greenstep.core.image import Image, Piece
from greenstep.core.image.edit import with_bytes
from greenstep.core.image.s_record import write_s_record
from greenstep.core.image.ti_txt import write_ti_txt

from ..elf_files import AVR, elf_file
from .support import ToolTest

EXAMPLE = Path(__file__).parents[2] / "examples" / "apiary"
SCALE = ("--chip", "atmega328p")
PROBE = ("--chip", "stm32f072rb")


def png_size(path: Path) -> tuple[int, int]:
    """Width and height that a PNG says it has (PNG specification, "IHDR")."""
    head = path.read_bytes()[:24]
    assert head.startswith(b"\x89PNG"), head
    width, height = struct.unpack(">II", head[16:24])
    return width, height


class Looking(ToolTest):
    def test_show_what_a_file_says_of_itself(self) -> None:
        run = self.run_tool("image", "show", "hive-scale.hex")
        self.assertEqual(run.status, 0, run.text)
        for said in (
            "hive-scale.hex   Intel HEX", "4,000 bytes, 0000-0F9F", "crc32 ", "sha256 ", "AVR: JMP to ", "(word ",
            '"hive scale 2.4 ready"', "bits a byte",
        ):  # fmt: skip
            self.assertIn(said, run.out)
        two = self.run_tool("image", "show", "hive-scale.hex", "brood-probe.hex", "--json").events
        self.assertEqual([event["name"] for event in two], ["hive-scale.hex", "brood-probe.hex"])
        self.assertEqual(two[1]["origins"][0]["family"], "cortex-m")
        self.assertEqual(two[0]["digest"]["crc32"], self.scale.crc32())

    def test_show_whether_it_fits(self) -> None:
        run = self.run_tool("image", "show", "hive-scale.hex", *SCALE)
        self.assertEqual(run.status, 0, run.text)
        for said in (
            "on ATmega328P, 32 KiB flash",
            "fits         yes",
            "32 of 256 erase units, 4 KiB",
            "would lock   no",
        ):
            self.assertIn(said, run.out)
        wrong = self.run_tool("image", "show", "hive-scale.hex", *PROBE)
        self.assertEqual(
            (wrong.status, "fits         no: the image is not for this place" in wrong.out), (5, True), wrong.text
        )
        event = self.run_tool("image", "show", "hive-scale.hex", *SCALE, "--bootloader-bytes", "30K", "--json").event(
            "fit"
        )
        self.assertEqual((event["fits"], event["refusals"][0]["key"]), (False, "hits-bootloader"))

    def test_two_builds_are_judged_each_for_itself(self) -> None:
        self.write_hex("later.hex", with_bytes(self.scale, 0x80, b"honey"))
        self.write_hex("large.hex", Image("large", (Piece(0x7D00, b"bees" * 100),)))
        run = self.run_tool("image", "show", "hive-scale.hex", "later.hex", "large.hex", *SCALE, "--json")
        self.assertEqual([(e["image"], e["fits"]) for e in run.events if e["event"] == "fit"],
                         [("hive-scale.hex", True), ("later.hex", True), ("large.hex", False)])  # fmt: skip
        self.assertIn(
            "later.hex on ATmega328P", self.run_tool("image", "show", "hive-scale.hex", "later.hex", *SCALE).out
        )

    def test_show_a_file_that_would_lock_the_chip(self) -> None:
        table = struct.pack("<16I", 0x10001000, 0x401, *[0x401] * 14)
        guard = Image("guard", (Piece(0, table), Piece(0x2FC, b"\x78\x56\x34\x12"), Piece(0x400, b"\x00\xbf" * 8)))
        self.write_hex("guard.hex", guard)
        run = self.run_tool("image", "show", "guard.hex", "--chip", "lpc1769")
        self.assertEqual(run.status, 5)
        self.assertIn("would lock   guard.hex would lock the chip: CRP", run.out)
        self.assertIn("vector checksum", run.out)

    def test_the_example_boards(self) -> None:
        project = ("--project", str(EXAMPLE / "greenstep.toml"))
        gateway = self.run_tool("image", "show", "apiary-gateway", *project)
        self.assertEqual(gateway.status, 0, gateway.text)
        for said in ("ESP32, dio, 4M, 40 MHz", "SHA-256 right", "hives 9000-EFFF", "4 MiB flash", "fits         yes"):
            self.assertIn(said, gateway.out)
        drawn = self.run_tool("image", "map", "apiary-gateway", *project, "--save", "gateway.png")
        self.assertEqual(drawn.status, 0, drawn.text)
        for said in (
            "one character is 4 KiB, an erase unit",
            "a······bkkkkkk·CCc",
            " k  kept (settings)   24 KiB",
            "saved gateway.png",
        ):
            self.assertIn(said, drawn.out)
        self.assertEqual(png_size(self.folder / "gateway.png"), (1280, 800))
        pump = " ".join(self.run_tool("image", "show", "feeder-pump", *project).out.split())
        self.assertIn("PIC18: GOTO 0040 (word 0020)", pump)
        self.assertIn("the program's own, to 0040, stands at FBFC", pump)

    def test_map(self) -> None:
        run = self.run_tool("image", "map", "hive-scale.hex", *SCALE, "--save", "scale.svg")
        self.assertEqual(run.status, 0, run.text)
        for said in (
            " 0800  " + "A" * 61 + "···",
            " #  bootloader   512 bytes, 7E00-7FFF",
            " ·  free   28,256 bytes",
        ):
            self.assertIn(said, run.out)
        self.assertIn("<svg", (self.folder / "scale.svg").read_text())
        self.assertNotIn("\x1b", run.out)
        stretches = self.run_tool("image", "map", "hive-scale.hex", *SCALE, "--json").event("map")["stretches"]
        self.assertEqual([s["kind"] for s in stretches], ["image", "free", "bootloader"])
        for words, said in (
            ((*PROBE,), "lies outside the flash"), (("--chip", "any"), "is not known"),
            ((*SCALE, "--save", "map.gif"), "pictures end in"), ((*PROBE, "--flash-size", "9M"), "at most that"),
        ):  # fmt: skip
            refused = self.run_tool("image", "map", "hive-scale.hex", *words)
            self.assertEqual((refused.status, said in refused.text), (2, True), refused.text)

    def test_dump(self) -> None:
        bytes_ = self.run_tool("image", "dump", "brood-probe.hex", "--from", "0x080000C8", "--size", "24").out
        self.assertIn("probe 1.7 ready·", bytes_)
        self.assertTrue(bytes_.startswith(" 080000C8  " + " " * 24), bytes_)
        words = self.run_tool("image", "dump", "hive-scale.hex", *SCALE).out.splitlines()
        self.assertEqual(words[0].split()[:4], ["0000", "w", "0000", "940C"])
        blank = Image("blank", (Piece(0, b"bees" + b"\xff" * 508), Piece(0x400, b"q")))
        self.write_hex("blank.hex", blank)
        folded = self.run_tool("image", "dump", "blank.hex").out
        self.assertIn("FF: 496 bytes, to 01FF", folded)
        self.assertIn("nothing: 512 bytes, to 03FF", folded)
        self.assertEqual(len(self.run_tool("image", "dump", "blank.hex", "--all", "--json").events), 34)
        outside = self.run_tool("image", "dump", "blank.hex", "--from", "0x9000")
        self.assertEqual((outside.status, "holds nothing" in outside.text), (2, True))


class Comparing(ToolTest):
    def test_a_later_build(self) -> None:
        later = with_bytes(self.scale, self.scale.pieces[0].data.index(b"2.4"), b"2.5")
        self.write_hex("later.hex", later)
        run = self.run_tool("image", "compare", "hive-scale.hex", "later.hex", *SCALE, "--save", "both.png")
        self.assertEqual(run.status, 7, run.text)
        for said in (
            "different: 1 byte differs; 3,999 bytes equal",
            "1 of 32 erase units of B, 128 bytes: 3% of an upload",
            "^^",
        ):
            self.assertIn(said, run.out)
        self.assertEqual(png_size(self.folder / "both.png"), (1280, 800))
        event = self.run_tool("image", "compare", "hive-scale.hex", "later.hex", *SCALE, "--json").event("comparison")
        self.assertEqual((event["same"], event["runs"][0]["bytes"], len(event["erase_units"])), (False, 1, 1))

    def test_the_same_in_other_formats(self) -> None:
        (self.folder / "scale.bin").write_bytes(self.scale.pieces[0].data + b"\xff" * 96)
        run = self.run_tool("image", "compare", "hive-scale.hex", "scale.bin", "at", "0")
        self.assertEqual((run.status, "the same, except 96 blank bytes" in run.out), (0, True), run.text)
        for words in (("hive-scale.hex",), ("hive-scale.hex",) * 3):
            self.assertEqual(self.run_tool("image", "compare", *words).status, 2)


class Changing(ToolTest):
    def test_through_every_format_and_back(self) -> None:
        at = "brood-probe.hex"
        for name in ("probe.s37", "probe.bin", "probe.txt", "again.hex"):
            place = ("at", "0x08000000") if at.endswith(".bin") else ()
            run = self.run_tool("image", "convert", at, *place, "--save", name)
            self.assertEqual(run.status, 0, run.text)
            at = name
        self.assertEqual(self.run_tool("image", "compare", "brood-probe.hex", "again.hex").status, 0)
        self.assertIn("belongs at 0x8000000", self.run_tool("image", "convert", at, "--save", "b.bin").out)

    def test_nothing_is_overwritten_silently(self) -> None:
        before = (self.folder / "brood-probe.hex").read_bytes()
        refused = self.run_tool("image", "convert", "hive-scale.hex", "--save", "brood-probe.hex")
        self.assertEqual((refused.status, "is there already" in refused.text), (2, True))
        self.assertEqual((self.folder / "brood-probe.hex").read_bytes(), before)
        replaced = self.run_tool("image", "convert", "hive-scale.hex", "--save", "brood-probe.hex", "--replace")
        self.assertEqual(replaced.status, 0, replaced.text)
        self.assertEqual(self.run_tool("image", "compare", "hive-scale.hex", "brood-probe.hex").status, 0)
        self.assertEqual([path.name for path in self.folder.glob(".*")], [])

    def test_join_and_cut(self) -> None:
        self.write_hex("pages.hex", Image("pages", (Piece(0x7000, b"bees" * 20),)))
        joined = self.run_tool(
            "image", "join", "hive-scale.hex", "pages.hex", "--fill", "0xFF", "--save", "whole.bin", "--json"
        )
        self.assertEqual(joined.event("saved")["bytes"], 0x7050, joined.text)
        cut = self.run_tool("image", "cut", "whole.bin", "at", "0", "--from", "0x7000", "--save", "cut.hex")
        self.assertEqual(cut.status, 0, cut.text)
        self.assertEqual(self.run_tool("image", "compare", "cut.hex", "pages.hex").status, 0)
        self.write_hex("clash.hex", Image("clash", (Piece(0x10, b"honey"),)))
        clash = self.run_tool("image", "join", "hive-scale.hex", "clash.hex", "--save", "no.hex")
        self.assertEqual((clash.status, "clash.hex: byte 68 at 0010" in clash.text), (5, True), clash.text)
        nothing = self.run_tool("image", "cut", "hive-scale.hex", "--from", "0x9000", "--save", "no.hex")
        self.assertEqual((nothing.status, (self.folder / "no.hex").exists()), (2, False))

    def test_moved_patched_filled(self) -> None:
        run = self.run_tool(
            "image", "convert", "hive-scale.hex", "--move-to", "0x1000", "--patch", '0x1000="HI"', "--patch", "0x1002=01 fe",
            "--fill", "0", "--from", "0xF00", "--size", "0x2000", "--save", "out.bin",
        )  # fmt: skip
        self.assertEqual(run.status, 0, run.text)
        data = (self.folder / "out.bin").read_bytes()
        self.assertEqual((data[:0x100], data[0x100:0x104], len(data)), (bytes(0x100), b"HI\x01\xfe", 0x2000))

    def test_sums(self) -> None:
        gateway = str(EXAMPLE / "images" / "gateway.bin")
        patch = ("--patch", '0x1002A="APIARY"')
        broken = self.run_tool("image", "convert", gateway, "at", "0x10000", *patch, "--save", "broken.bin")
        mended = self.run_tool(
            "image", "convert", gateway, "at", "0x10000", *patch, "--fix-sums", "--save", "mended.bin"
        )
        self.assertEqual((broken.status, mended.status), (0, 0), mended.text)
        self.assertIn("checksum and SHA-256 recomputed", mended.out)
        self.assertIn("WRONG", self.run_tool("image", "show", "broken.bin").out)
        self.assertIn(
            "checksum right, SHA-256 right",
            self.run_tool("image", "show", "mended.bin").out.replace("\n              ", " "),
        )
        counter = str(EXAMPLE / "images" / "entrance-counter.hex")
        put = self.run_tool("image", "convert", counter, "--chip", "lpc1769", "--fix-sums", "--save", "counter.hex")
        self.assertIn("vector checksum EFFF7876 filled in at 001C", put.out)
        self.assertNotIn("vector checksum", self.run_tool("image", "show", "counter.hex", "--chip", "lpc1769").out)

    def test_what_is_refused(self) -> None:
        cases = {
            ("--save", "x.xyz"): "--as hex", ("--save", "x.hex", "--patch", "7C=zz"): "write ADDRESS=BYTES",
            ("--save", "x.hex", "--fix-sums"): "which chip", ("--save", "x.hex", "--fill", "300"): "is not a byte",
            ("--save", "x.hex", "--from", "0"): "say what is filled", ("--save", "none/x.hex"): "there is no folder",
            ("--save", "x.hex", "--move-to", "0xFFFFFFFF"): "outside of addresses", ("--save", "."): "is a directory",
            ("--save", "x.s19", "--record-bytes", "255"): "1 to 250",
        }  # fmt: skip
        for words, said in cases.items():
            with self.subTest(words):
                run = self.run_tool("image", "convert", "hive-scale.hex", *words)
                self.assertEqual((run.status, said in run.text), (2, True), run.text)
        self.write_hex("far.hex", Image("far", (Piece(0, b"a"), Piece(0x08000000, b"b"))))
        run = self.run_tool("image", "convert", "far.hex", "--save", "far.bin")
        self.assertEqual((run.status, "gaps" in run.text), (2, True))


class Reserving(ToolTest):
    def test_room_jump_and_linker(self) -> None:
        run = self.run_tool("loader", "room", *SCALE, "--size", "1900")
        self.assertEqual(run.status, 0, run.text)
        for said in (
            "7800-7FFF, 2 KiB   in words 3C00-3FFF",
            "0C 94 00 3C   JMP 7800",
            "--section-start=.text=0x7800",
        ):
            self.assertIn(said, run.out)
        event = self.run_tool("loader", "room", "--chip", "stm32f103c8", "--size", "8K", "--json").event(
            "loader-room"
        )
        self.assertEqual((event["side"], event["application_start"]), ("bottom", 0x08002000))

    def test_an_application_with_its_reset_moved(self) -> None:
        run = self.run_tool("loader", "room", "hive-scale.hex", *SCALE, "--size", "500", "--save", "moved.hex")
        self.assertEqual(run.status, 0, run.text)
        self.assertIn("0000: 0C 94 00 3F, to the bootloader", run.out)
        listed = self.run_tool("image", "dump", "moved.hex", "--from", "0x7DFC").out
        self.assertTrue(listed.split("0C 94", 1)[0].strip() == "7DFC", listed)
        refused = self.run_tool("loader", "room", "brood-probe.hex", *PROBE, "--size", "4K")
        self.assertEqual((refused.status, "needs the bootloader's space" in refused.text), (5, True))
        self.assertEqual(self.run_tool("loader", "room", "--chip", "esp32", "--size", "4K").status, 2)


class Uploading(ToolTest):
    def test_an_elf_climbs_to_green_and_the_others_are_planned(self) -> None:
        bench = self.bench("hive-scale")
        data = self.scale.pieces[0].data
        (self.folder / "scale.elf").write_bytes(elf_file([(0, data[:1000]), (1000, data[1000:])], machine=AVR))
        (self.folder / "scale.s19").write_text("".join(write_s_record(self.scale)))
        (self.folder / "scale.any").write_text("".join(write_ti_txt(self.scale)))
        run = self.run_tool("upload", "scale.elf", *SCALE, "--port", bench.port("hive-scale"))
        self.assertEqual(run.status, 0, run.text)
        self.assertIn("read back, 4,000 bytes equal", run.out)
        for name in ("scale.s19", "scale.any"):
            with self.subTest(name):
                planned = self.run_tool("plan", name, *SCALE, "--json").event("plan")["memories"][0]
                self.assertEqual(planned["pieces"], [{"address": 0, "bytes": 4000}])
        arm = elf_file([(0, data)])
        (self.folder / "arm.elf").write_bytes(arm)
        refused = self.run_tool("upload", "arm.elf", *SCALE, "--port", bench.port("hive-scale"))
        self.assertEqual((refused.status, "another processor: arm" in refused.text), (5, True), refused.text)


if __name__ == "__main__":
    unittest.main()
