"""`ti-tiva`: what its packets begin with, and loaders that take only the program's start."""

from __future__ import annotations

import unittest
from dataclasses import replace

from greenstep.bench.trial import prepare, run, sample_for
from greenstep.core.image import Piece
from greenstep.core.spans import Span


class Tiva(unittest.TestCase):
    def test_a_cut_in_the_middle_leaves_a_chip_that_enters(self) -> None:
        image = sample_for("tm4c123", 9000)
        count = run("tm4c123", {"flash": image}, compare=False, start=False).line.to_chip_count
        for tenth in range(1, 10):
            trial = run("tm4c123", {"flash": image}, compare=False, faults=(f"cut-after={count * tenth // 10}",))
            self.assertTrue(trial.line.chip.enters(False), tenth)  # type: ignore[attr-defined]

    def test_a_loader_that_takes_only_the_start_gets_all_in_one_go(self) -> None:
        image = sample_for("tm4c123", 9000)
        gap = replace(image, pieces=(image.pieces[0].part(Span(0, 2000)), Piece(0x2000, bytes(range(100)))))
        for given, status in ((image, 0), (gap, 6)):
            runner, trial = prepare("tm4c123", {"flash": given}, start=False)
            trial.line.chip.only_start = True  # type: ignore[attr-defined]
            trial.events.extend(runner.run())
            self.assertEqual((trial.end.exit_code, trial.holds(given)), (status, not status), trial.findings)

    def test_the_blank_end_of_a_page_is_not_sent(self) -> None:
        trial = run("tm4c1294", {"flash": sample_for("tm4c1294", 700)}, compare=False, start=False)
        self.assertEqual(trial.end.exit_code, 0)
        self.assertLess(trial.line.to_chip_count, 1200)


if __name__ == "__main__":
    unittest.main()
