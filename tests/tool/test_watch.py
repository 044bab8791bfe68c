"""An upload after every change of the image files, once they have come to rest."""

from __future__ import annotations

import os
import shutil
import signal
import time
import unittest
from pathlib import Path
from typing import Any, ClassVar
from unittest import mock

from watchfiles import watch

from greenstep.bench.samples import avr_image
from greenstep.cli.drive import follow
from greenstep.core.events import Event, RunEnded
from greenstep.core.image import Image, Piece
from greenstep.core.image.intel_hex import write_intel_hex
from greenstep.store.board import BoardSettings, PortChoice
from greenstep.work.board import Board
from greenstep.work.jobs import make_job
from greenstep.work.readiness import Rebuilds
from greenstep.work.run import Interrupts, Run

from .support import ToolTest
from .test_turns import Heard

CHANGES = 100
PIECES = 3


class Watching(ToolTest):
    """Three files of one board, each written in pieces."""

    FILES: ClassVar = {"build/low.hex": 0x0000, "build/high.hex": 0x1000, "build/hive.bin": 0x2000}

    def setUp(self) -> None:
        super().setUp()
        (self.folder / "build").mkdir()
        self.memory = self.folder / "hive.chip"
        images = ", ".join(
            f'{{ file = "{name}", at = {at} }}' if name.endswith(".bin") else f'"{name}"'
            for name, at in self.FILES.items()
        )
        self.project(
            f'[board.hive-scale]\nchip = "atmega328p"\nimages = [{images}]\nstart = false\n'
            f'port = "bench:hive-scale?memory={self.memory}"\n'
        )

    def contents(self, number: int) -> dict[str, bytes]:
        """What the files hold after a change: other bytes each time."""
        data = avr_image("hive scale", 200).pieces[0].data[:-4] + number.to_bytes(4, "little")
        made = {}
        for name, at in self.FILES.items():
            image = Image(name, (Piece(at, data),)) if name.endswith(".hex") else None
            made[name] = "".join(write_intel_hex(image)).encode() if image else data
        return made

    def write(self, number: int) -> None:
        """All three files, a piece of each at a time, so that none is whole before the last piece of it."""
        pieces = self.contents(number)
        streams = {name: (self.folder / name).open("wb", buffering=0) for name in pieces}
        for piece in range(PIECES):
            for name, data in pieces.items():
                streams[name].write(data[piece * len(data) // PIECES : (piece + 1) * len(data) // PIECES])
            time.sleep(0.02)
        for stream in streams.values():
            stream.close()

    def watch(self, *arguments: str) -> Heard:
        heard = Heard(self.start_tool("upload", "hive-scale", "--watch", *arguments))
        self.addCleanup(lambda: heard.process.poll() is None and heard.end(signal.SIGKILL))
        return heard

    def test_a_hundred_changes_are_a_hundred_uploads_of_whole_files(self) -> None:
        watch = self.watch("--json")
        for number in range(1, CHANGES + 1):
            self.write(number)
            watch.wait_for('"event": "run-ended"', number)
        lines = watch.end()
        ended = [line for line in lines if '"event": "run-ended"' in line]
        self.assertEqual((len(ended), sum('"exit_code": 0' in line for line in ended)), (CHANGES, CHANGES))
        rows = self.run_tool("journal", "--last", "0", "--json").events
        self.assertEqual(len({row["crc32"] for row in rows}), CHANGES)
        self.assertEqual({row["image_bytes"] for row in rows}, {3 * 200})
        self.assertEqual(watch.process.returncode, 0)

    def test_a_file_left_half_and_a_folder_made_anew(self) -> None:
        watch = self.watch()
        watch.wait_for("waiting for low.hex, high.hex, hive.bin")
        self.write(1)
        watch.wait_for("green in", 1)
        low = self.folder / "build" / "low.hex"
        low.write_bytes(low.read_bytes()[:-20])
        watch.wait_for("waiting for the next change")
        shutil.rmtree(self.folder / "build")
        (self.folder / "build").mkdir()
        self.write(2)
        watch.wait_for("green in", 2)
        self.assertIn("watched until Ctrl-C: 3 uploads, 1 not green", "".join(watch.end()))

    def test_the_console_goes_on_until_the_next_change(self) -> None:
        for name, data in self.contents(1).items():
            (self.folder / name).write_bytes(data)
        self.write_hex("talks.hex", avr_image("frames 10", 800))
        watch = Heard(
            self.start_tool(
                "upload", "talks.hex", "--chip", "atmega328p", "--port", "bench:hive-scale", "--watch", "--listen"
            )
        )
        self.addCleanup(lambda: watch.process.poll() is None and watch.end(signal.SIGKILL))
        watch.wait_for("frames 10")
        self.write_hex("talks.hex", avr_image("frames 11", 800))
        watch.wait_for("green in", 2)
        self.assertIn("watched until Ctrl-C: 2 uploads, all green", "".join(watch.end()))
        self.assertEqual(watch.process.returncode, 0)

    def test_what_cannot_be_watched(self) -> None:
        for arguments, words in (
            (("hive-scale", "--watch", "--if-changed"), "leave out --if-changed"),
            (("--chip", "atmega328p", "--port", "bench:hive-scale", "--watch"), "no image to watch"),
        ):
            with self.subTest(arguments=arguments):
                refused = self.run_tool("upload", *arguments)
                self.assertEqual(refused.status, 2, refused.text)
                self.assertIn(words, refused.text)


class LastLine:
    """A view that is interrupted while it shows the end of a run."""

    def show(self, event: Event) -> None:
        if isinstance(event, RunEnded):
            os.kill(os.getpid(), signal.SIGINT)

    def details(self, rows: list[tuple[str, str]]) -> None: ...

    def close(self) -> None: ...


class AtTheEnd(unittest.TestCase):
    def test_ctrl_c_with_the_last_line_of_an_upload_is_not_forgotten(self) -> None:
        settings = BoardSettings(chip="atmega328p", port=PortChoice(name="bench:hive-scale"))
        rebuilds, interrupts = Rebuilds([Path(__file__)], rest_s=0.0), Interrupts()
        with interrupts.noted():
            run = Run(make_job("start", Board("", settings)), recorded=False)
            self.assertEqual(follow(run, LastLine(), interrupts), 0)
            self.assertFalse(rebuilds.wait(lambda: interrupts.heard))
            with self.assertRaises(KeyboardInterrupt):
                os.kill(os.getpid(), signal.SIGINT)
                rebuilds.wait(lambda: False)
        self.assertTrue(rebuilds.wait(lambda: False))


class FolderGone(ToolTest):
    def test_a_folder_that_goes_away_when_it_is_about_to_be_watched(self) -> None:
        build = self.folder / "build"
        rebuilds = Rebuilds([build / "low.hex"], rest_s=0.0)
        gone: list[Path] = []

        def after_a_clean(*folders: Path, **options: Any) -> Any:
            if not gone:
                shutil.rmtree(build)
                gone.append(build)
            return watch(*folders, **options)

        def make_again() -> bool:
            if gone and not build.exists():
                build.mkdir()
                (build / "low.hex").write_text("2")
            return False

        build.mkdir()
        (build / "low.hex").write_text("1")
        self.assertTrue(rebuilds.wait(lambda: False))
        rebuilds.take()
        with mock.patch("watchfiles.watch", after_a_clean):
            self.assertTrue(rebuilds.wait(make_again))
        self.assertEqual(gone, [build])


if __name__ == "__main__":
    unittest.main()
