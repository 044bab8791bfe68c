"""Files that some loaders want besides, or instead of, an image: by the installed command, in projects, in kits."""

from __future__ import annotations

import json
import unittest
import zipfile

from greenstep.bench.families.stm8 import ROUTINES
from greenstep.bench.trial import prepare, sample_for
from greenstep.core.image import Piece

from .support import ToolTest

STM8 = "bench:stm8s105?memory=lift.mem"


class FilesOfSettings(ToolTest):
    def setUp(self) -> None:
        super().setUp()
        self.write_hex("lift.hex", sample_for("stm8s105", 900))
        (self.folder / "routines.bin").write_bytes(ROUTINES)
        (self.folder / "wrong.bin").write_bytes(bytes(range(200)))

    def test_on_the_command_line(self) -> None:
        chip = ("--chip", "stm8s105c6t6", "--port", STM8)
        run = self.run_tool(
            "upload", "lift.hex", *chip, "--set", "routines=@routines.bin", "--expect", "frame lift 1.1"
        )
        self.assertEqual(run.status, 0, run.text)
        for given, status, said in (
            ("routines=@no.bin", 2, "no file"),
            ("routines=routines.bin", 2, "routines=@FILE"),
            ("routines=@wrong.bin", 6, ""),
        ):
            run = self.run_tool("upload", "lift.hex", *chip, "--set", given, "--compare", "off")
            self.assertEqual(run.status, status, run.text)
            self.assertIn(said, run.text)
        run = self.run_tool("plan", "lift.hex", "--chip", "lpc1769", "--set", "crystal-khz=@lift.hex")
        self.assertEqual(run.status, 2, run.text)
        self.assertIn("it takes none", run.text)

    def test_in_a_project_and_in_a_kit(self) -> None:
        (self.folder / "st").mkdir()
        (self.folder / "routines.bin").rename(self.folder / "st" / "routines.bin")
        self.project(
            f'[board.frame-lift]\nchip = "stm8s105x6"\nport = "{STM8}"\nimages = ["lift.hex"]\n'
            'set = { routines = { file = "st/routines.bin" } }\n'
        )
        run = self.run_tool("upload", "frame-lift")
        self.assertEqual(run.status, 0, run.text)
        run = self.run_tool("kit", "make", "frame-lift", "--save", "lift.kit")
        self.assertEqual(run.status, 0, run.text)
        with zipfile.ZipFile(self.folder / "lift.kit") as kit:
            self.assertIn("images/routines.bin", kit.namelist())
            members = {name: kit.read(name) for name in kit.namelist()}
        (self.folder / "st" / "routines.bin").unlink()
        run = self.run_tool("upload", "lift.kit", "--port", "bench:stm8s105")
        self.assertEqual(run.status, 0, run.text)
        manifest = members["kit.toml"].decode().replace('file = "images/routines.bin"', 'file = "/etc/passwd"')
        self.assertNotEqual(manifest.encode(), members["kit.toml"])
        with zipfile.ZipFile(self.folder / "other.kit", "w") as kit:
            for name, data in members.items():
                kit.writestr(name, manifest.encode() if name == "kit.toml" else data)
        run = self.run_tool("upload", "other.kit", "--port", "bench:stm8s105")
        self.assertEqual(run.status, 5, run.text)


class FilesOfLoaders(ToolTest):
    def test_rows_of_a_psoc(self) -> None:
        image = sample_for("cy8c4245", 900)
        lines = [image.header.replace(" ", "")]
        for piece in image.pieces:
            for at in range(0, len(piece.data), 128):
                row = bytes([0]) + ((piece.address + at) // 128).to_bytes(2, "big") + b"\x00\x80"
                row += piece.data[at : at + 128]
                lines.append(f":{(row + bytes([-sum(row) & 0xFF])).hex().upper()}")
        (self.folder / "fan.cyacd").write_text("\r\n".join(lines) + "\r\n")
        shown = self.run_tool("image", "show", "fan.cyacd", "--chip", "cy8c4245")
        self.assertIn("PSoC rows", shown.out)
        self.assertIn("fits         yes", shown.out)
        run = self.run_tool("upload", "fan.cyacd", "--port", "bench:cy8c4245", "--expect", "smoke fan 0.9")
        self.assertEqual(run.status, 0, run.text)
        self.assertIn("the loader's word on the checksum of all", run.out)
        self.write_hex("fan.hex", image)
        self.assertIn(".cyacd", self.run_tool("upload", "fan.hex", "--port", "bench:cy8c4245").text)

    def test_a_package(self) -> None:
        image = sample_for("nrf52832", 5000)
        files = {"bin_file": "probe.bin", "dat_file": "probe.dat"}
        with zipfile.ZipFile(self.folder / "probe.zip", "w") as package:
            package.writestr("manifest.json", json.dumps({"manifest": {"application": files}}))
            package.writestr("probe.bin", image.pieces[0].data)
            package.writestr("probe.dat", bytes.fromhex(image.header))
        self.assertIn("101 bytes go before it", self.run_tool("image", "show", "probe.zip").out)
        run = self.run_tool("upload", "probe.zip", "--port", "bench:nrf52832", "--expect", "brood probe 1.7")
        self.assertEqual(run.status, 0, run.text)
        with zipfile.ZipFile(self.folder / "bees.zip", "w") as package:
            package.writestr("bees.txt", "honey")
        self.assertIn("bees.zip holds no image", self.run_tool("upload", "bees.zip", "--port", "bench:nrf52832").text)

    def test_the_old_program_is_the_password(self) -> None:
        _, trial = prepare("msp430g2553")
        chip = trial.line.chip
        old = sample_for("msp430g2553", 900)
        self.write_hex("old.hex", old.__class__("old.hex", (Piece(chip.base, bytes(chip.flash)),)))
        port = ("--port", "bench:msp430g2553")
        run = self.run_tool("backup", *port, "--save", "was.bin", "--set", "old=@old.hex")
        self.assertEqual(run.status, 0, run.text)
        self.assertEqual((self.folder / "was.bin").read_bytes(), bytes(chip.flash))
        run = self.run_tool("backup", *port, "--save", "none.bin")
        self.assertEqual(run.status, 5, run.text)
        self.assertIn("it wants its password", run.text)
        self.assertNotIn("greenstep unlock", run.text)


if __name__ == "__main__":
    unittest.main()
