"""The portable loader, compiled for this computer with sanitizers, and a fuzzer around it."""

from __future__ import annotations

import subprocess
import unittest
from concurrent.futures import ThreadPoolExecutor

from greenstep.bench.trial import run, sample_for
from tests.machines import boards
from tests.machines.built import FOLDER
from tests.machines.conduct import Conduct
from tests.machines.vectors import Vectors

FRAMES = 1_000_000


def setUpModule() -> None:
    boards.join_the_bench()


class PagesThatAWriteErases(Vectors, Conduct):
    machine = property(lambda self: boards.portable(1))  # type: ignore[assignment]
    layout = boards.PORTABLE[1]
    unit = erase_unit = 128
    data = 512
    longest_s = 1.0


class WordsOnPagesErasedBefore(Conduct):
    machine = property(lambda self: boards.portable(2))  # type: ignore[assignment]
    layout = boards.PORTABLE[2]
    unit, erase_unit, data = 4, 1024, 1024
    erases_itself = False
    longest_s = 1.0


class Uploads(unittest.TestCase):
    def test_one_byte_in_three_hundred_is_damaged(self) -> None:
        for board in ("machine-portable-1", "machine-portable-2"):
            image = sample_for(board, 9000)
            faults = [f"flip-to-chip={at}:{1 << at % 8:02X}" for at in range(60, 12000, 301)]
            faults += [f"drop-to-host={at}" for at in range(100, 900, 97)]
            trial = run(board, {"flash": image}, tuple(faults))
            with self.subTest(board):
                self.assertTrue(trial.end.green, (trial.end, trial.findings))
                self.assertTrue(trial.holds(image))


class Fuzzed(unittest.TestCase):
    def test_no_frame_does_harm(self) -> None:
        def fuzz(kind: int) -> subprocess.CompletedProcess[str]:
            command = [str(FOLDER / f"fuzz-{kind}"), str(FRAMES), str(kind)]
            return subprocess.run(command, capture_output=True, text=True, check=False)

        with ThreadPoolExecutor(2) as pool:
            for done in pool.map(fuzz, (1, 2)):
                self.assertEqual((done.returncode, done.stderr), (0, ""))
                answers, starts = (int(word.split()[0]) for word in done.stdout.split(","))
                self.assertGreater(answers, FRAMES // 5)
                self.assertGreater(starts, 100)


del Conduct, Vectors
