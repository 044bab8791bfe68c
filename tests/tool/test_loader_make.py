"""`greenstep loader make`, and uploads by the installed command to the loader that it makes, whose machine code runs in an
emulated core."""

from __future__ import annotations

import os
import subprocess
import tempfile
import unittest
from pathlib import Path

from greenstep.bench.families.doorstep import KINDS
from greenstep.core.image.intel_hex import write_intel_hex
from greenstep.core.loaders.images import loader_for
from greenstep.store.image_files import load_image

from .support import COMMAND

ROOT = Path(__file__).parents[2]
ENTRY = "[greenstep.bench]\nmachines = tests.machines.boards\n"


class Making(unittest.TestCase):
    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.place = Path(holder.name)

    def run_command(self, *words: str, plugins: str = "") -> subprocess.CompletedProcess[str]:
        environment = {**os.environ, "PYTHONPATH": plugins, "GREENSTEP_JOURNAL": "none"}
        return subprocess.run(
            [COMMAND, *words],
            cwd=self.place,
            env=environment,
            capture_output=True,
            text=True,
            timeout=120,
            check=False,
        )

    def test_a_file_for_the_programmer_and_what_to_know(self) -> None:
        made = self.run_command(
            "loader",
            "make",
            "--chip",
            "atmega328p",
            "--clock",
            "16M",
            "--wait",
            "500ms",
            "--pin",
            "PD4",
            "--save",
            "loader.hex",
        )
        self.assertEqual(made.returncode, 0, made.stderr)
        for words in (
            "1 KiB at 7C00",
            "BOOTRST = 0, BOOTSZ1 = 1, BOOTSZ0 = 0",
            "31,616 bytes",
            "0.5 s after a reset",
            "PD4 low",
        ):
            self.assertIn(words, made.stdout)
        image = load_image(self.place / "loader.hex", 0)
        self.assertEqual([(piece.address, len(piece.data)) for piece in image.pieces], [(0x7C00, 1024)])
        again = self.run_command("loader", "make", "--chip", "atmega328p", "--clock", "16M", "--save", "loader.hex")
        self.assertEqual((again.returncode, "is there already" in again.stderr), (2, True))

    def test_what_is_missing_is_asked_for(self) -> None:
        for words, said in (
            (("--chip", "atmega328p"), "--clock 16M"),
            (("--chip", "stm32f103c8"), "there is no loader"),
            (("--chip", "nrf51822", "--wait", "soon"), "1.5s or 500ms"),
            (("--chip", "atmega2560", "--clock", "8M"), "makes no 115200 baud"),
        ):
            with self.subTest(words):
                made = self.run_command("loader", "make", *words)
                self.assertEqual(made.returncode, 2, made.stdout)
                self.assertIn(said, made.stderr)

    def test_a_kit_carries_it_beside_the_application(self) -> None:
        self.run_command("loader", "make", "--chip", "atmega328p", "--clock", "16M", "--save", "loader.hex")
        image = KINDS["atmega328p"].program("queen lamp 1.5 ready", 3000, 1)
        (self.place / "lamp.hex").write_text("".join(write_intel_hex(image)))
        (self.place / "greenstep.toml").write_text(
            '[board.queen-lamp]\nchip = "atmega328p"\ndialect = "doorstep"\nhookup = "cap-dtr"\nimages = ["lamp.hex"]\n'
        )
        made = self.run_command("kit", "make", "queen-lamp", "--save", "lamp.kit", "--loader", "loader.hex")
        self.assertEqual(made.returncode, 0, made.stderr)
        self.assertIn("loader   loader.hex", made.stdout)
        shown = self.run_command("kit", "show", "lamp.kit", "--save-loader", "again.hex")
        self.assertEqual(shown.returncode, 0, shown.stderr)
        self.assertEqual((self.place / "again.hex").read_bytes(), (self.place / "loader.hex").read_bytes())
        uploaded = self.run_command("upload", "lamp.kit", "--port", "bench:doorstep-atmega328p")
        self.assertEqual(uploaded.returncode, 0, uploaded.stdout + uploaded.stderr)
        self.assertIn("sealed: 3,000 bytes", uploaded.stdout)
        self.run_command("kit", "make", "queen-lamp", "--save", "bare.kit")
        none = self.run_command("kit", "show", "bare.kit", "--save-loader", "none.hex")
        self.assertEqual((none.returncode, (self.place / "none.hex").exists()), (2, False))

    def test_as_json(self) -> None:
        made = self.run_command("loader", "make", "--chip", "samd21g18", "--json")
        self.assertIn('"event": "loader-made"', made.stdout)
        loader = loader_for("samd21g18")
        assert loader is not None
        self.assertIn(loader.source, made.stdout)

    def test_the_installed_command_uploads_greets_verifies_and_backs_up(self) -> None:
        plugin = self.place / "machines-1.0.dist-info"
        plugin.mkdir()
        (plugin / "METADATA").write_text("Metadata-Version: 2.1\nName: machines\nVersion: 1.0\n")
        (plugin / "entry_points.txt").write_text(ENTRY)
        plugins = os.pathsep.join((str(self.place), str(ROOT)))
        for chip in ("nrf51822", "samd21g18"):
            image = KINDS[chip].program("swarm tag 0.9 ready", 3000, 1)
            (self.place / "tag.hex").write_text("".join(write_intel_hex(image)))
            port = f"bench:machine-{chip}?memory={chip}.chip"
            there = ("--chip", chip, "--dialect", "doorstep", "--port", port)
            uploaded = self.run_command("upload", "tag.hex", *there, "--expect", "swarm tag", plugins=plugins)
            with self.subTest(chip):
                self.assertEqual(uploaded.returncode, 0, uploaded.stdout + uploaded.stderr)
                for words in ("sealed: 3,000 bytes", "3,000 bytes equal", 'heard "swarm tag"'):
                    self.assertIn(words, uploaded.stdout)
                greeted = self.run_command("greet", *there, plugins=plugins)
                self.assertIn("Doorstep 1", greeted.stdout + greeted.stderr)
                verified = self.run_command("verify", "tag.hex", *there, plugins=plugins)
                self.assertEqual(verified.returncode, 0, verified.stdout + verified.stderr)
                backed = self.run_command(
                    "backup", *there, "--from", "0x800", "--size", "3000", "--save", f"{chip}.bin", plugins=plugins
                )
                self.assertEqual(backed.returncode, 0, backed.stdout + backed.stderr)
                held = (self.place / f"{chip}.bin").read_bytes()
                self.assertIn(image.pieces[0].data, held)
