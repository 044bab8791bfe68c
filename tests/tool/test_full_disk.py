"""A disk that is full takes nothing back of what was done to the chip; what is kept is on it before flash is erased."""

from __future__ import annotations

import errno
import os
import tempfile
import unittest
from pathlib import Path
from unittest.mock import patch

from greenstep.core.errors import RefusedFault
from greenstep.core.image import Image, Piece
from greenstep.store.aside import AsideFile, put_aside
from greenstep.store.journal_place import VARIABLE
from greenstep.store.whole_files import write_whole

from .support import ToolTest

FULL = OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
SETTINGS = Image("", (Piece(0x7000, b"hive 7, north field"),))


class Recording(ToolTest):
    @unittest.skipUnless(Path("/dev/full").exists(), "Linux has a disk that is always full")
    def test_an_upload_whose_recording_finds_no_room_is_green_and_says_so(self) -> None:
        bench = self.bench("hive-scale")
        run = self.run_tool("upload", "hive-scale.hex", "--port", bench.port("hive-scale"), "--trace", "/dev/full")
        self.assertEqual(run.status, 0, run.text)
        self.assertIn("green in", run.out)
        self.assertIn("/dev/full is incomplete: No space left on device", run.err)
        self.assertEqual(bench.close()["hive-scale.flash"][:4000], self.scale.pieces[0].data)

    @unittest.skipUnless(Path("/dev/full").exists(), "Linux has a disk that is always full")
    def test_a_console_whose_files_find_no_room_goes_on(self) -> None:
        words = ("listen", "--port", "bench:hive-scale?on-for=5", "--send", "weigh", "--expect", "taken: weigh")
        for more in (("--log", "/dev/full"), ("--save", "/dev/full", "--replace")):
            run = self.run_tool(*words, *more)
            with self.subTest(more):
                self.assertEqual(run.status, 0, run.text)
                self.assertEqual(run.err, "/dev/full is incomplete: No space left on device\n")


class SafetyCopy(unittest.TestCase):
    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory(prefix="greenstep-test-")
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        there = patch.dict(os.environ, {VARIABLE: str(self.folder / "journal.sqlite")})
        there.start()
        self.addCleanup(there.stop)

    def test_it_is_on_the_disk_before_it_has_its_name(self) -> None:
        seen: list[tuple[int, int]] = []
        sync = os.fsync

        def watched(descriptor: int) -> None:
            kept = self.folder / "kept"
            seen.append((os.fstat(descriptor).st_size, len(list(kept.glob("*.hex")))))
            sync(descriptor)

        with patch.object(os, "fsync", watched):
            put_aside(SETTINGS, "hive-scale")
        self.assertEqual(seen[0][1], 0)
        self.assertGreater(seen[0][0], len(SETTINGS.pieces[0].data))
        self.assertEqual(len(seen), 2)  # the folder that holds its name, too

    def test_a_full_disk_stops_before_erasing_and_leaves_no_half(self) -> None:
        with patch.object(os, "fsync", side_effect=FULL), self.assertRaises(RefusedFault) as caught:
            put_aside(SETTINGS, "hive-scale")
        self.assertIn("No space left on device", " ".join(caught.exception.finding.evidence))
        self.assertEqual(list((self.folder / "kept").iterdir()), [])
        (self.folder / "old.txt").write_bytes(b"old")
        with patch.object(os, "fsync", side_effect=FULL), self.assertRaises(OSError):
            write_whole(self.folder / "old.txt", [b"new"])
        self.assertEqual((self.folder / "old.txt").read_bytes(), b"old")

    def test_a_copy_that_cannot_be_deleted_stays(self) -> None:
        aside = put_aside(SETTINGS, "hive-scale")
        assert isinstance(aside, AsideFile)
        with patch.object(Path, "unlink", side_effect=FULL):
            aside.drop()
        self.assertTrue(aside.path.exists())
        aside.drop()
        self.assertFalse(aside.path.exists())


if __name__ == "__main__":
    unittest.main()
