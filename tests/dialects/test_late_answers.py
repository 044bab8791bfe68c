"""Answers that come late: never taken for those of later questions; what was damaged meanwhile is mended, or told."""

from __future__ import annotations

import unittest

from benchmarks.beside import BOARDS
from benchmarks.late_answers import one_run
from greenstep.bench.faults import Faults
from greenstep.bench.trial import Trial, prepare, run, sample_for
from greenstep.core.dialects.registry import dialect_names, find_dialect

from ..sample import some
from .observed import notes


class Seeded(unittest.TestCase):
    def test_some_of_each_dialect(self) -> None:
        """`python -m benchmarks.late_answers` does two thousand of each."""
        self.assertEqual(set(BOARDS), set(dialect_names()))
        for dialect in BOARDS:
            runs = [one_run(dialect, seed) for seed in some(range(2), 1)]
            with self.subTest(dialect):
                self.assertEqual([found for found, _ in runs if found.wrong], [])
                counted = [found for found, counts in runs if counts]
                self.assertGreaterEqual(sum(found.well for found in counted), len(counted) - 1)


class OnTheBench(unittest.TestCase):
    def test_what_is_late_keeps_its_order(self) -> None:
        late = prepare("atmega328p", purpose="greet", faults=("late-once=2:300",))
        late[1].events.extend(late[0].run())
        self.assertEqual(late[1].end.exit_code, 0, late[1].findings)

    def test_chance_begins_at_the_seed(self) -> None:
        image = {"flash": sample_for("atmega328p", 1500)}
        times = [run("atmega328p", image, faults=("late-some=90",), seed=seed).end.elapsed_s for seed in (3, 3, 4)]
        self.assertEqual(times[0], times[1])
        self.assertNotEqual(times[0], times[2])

    def test_every_answer_later_than_the_time_out(self) -> None:
        for board, dialect in (
            ("pic18f46k22", "pic-an1310"),
            ("atmega2560", "avr-068"),
            ("lpc1114", "lpc-isp"),
            ("atmega328p", "avr-061"),
        ):
            with self.subTest(board):
                image = sample_for(board, 1500)
                late_ms = 1900 * find_dialect(dialect).answer_s
                trial = run(board, {"flash": image}, faults=(f"late={late_ms:.0f}",))
                self.assertEqual(trial.end.exit_code, 0, trial.findings)
                self.assertTrue(trial.holds(image))


class TakenForAnother(unittest.TestCase):
    def test_an_acknowledgement_that_comes_behind_the_next_question(self) -> None:
        """Each write's reply, late by two time-outs: the next block is not sent before it, and none stays blank."""
        image = sample_for("pic18f46k22", 2300)
        clean = run("pic18f46k22", {"flash": image})
        for place in range(clean.line.to_host_count - 2500, clean.line.to_host_count - 2300, 17):
            trial = run("pic18f46k22", {"flash": image}, faults=(f"late-once={place}:790",))
            self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), place)


class Mended(unittest.TestCase):
    def spoilt(self, board: str, hurt: bool) -> Trial:
        """An upload in which one byte of the flash changes behind everybody's back before verify, and perhaps an
        answer is lost on the way there."""
        image = sample_for(board, 3000)
        faults = ("drop-to-host=420",) if hurt else ()
        runner, trial = prepare(board, {"flash": image}, faults=faults, compare=False)
        for event in runner.run():
            trial.events.append(event)
            if getattr(event, "step", "") == "write" and type(event).__name__ == "StepEnded":
                trial.line.chip.flash[image.lowest - trial.line.chip.base + 1000] ^= 0x10
        return trial

    def test_units_that_differ_are_written_once_more_where_the_line_had_hurt_anything(self) -> None:
        for board in ("stm32f072", "pic18f46k22", "esp32", "atmega2560"):
            with self.subTest(board):
                trial = self.spoilt(board, hurt=True)
                self.assertEqual(trial.end.exit_code, 0, trial.findings)
                self.assertTrue(trial.holds(sample_for(board, 3000)))
                self.assertIn("written once more", notes(trial))

    def test_and_nowhere_else(self) -> None:
        for board in ("stm32f072", "pic18f46k22"):
            with self.subTest(board):
                trial = self.spoilt(board, hurt=False)
                self.assertEqual((trial.end.exit_code, trial.findings[0].key != ""), (7, True))
                self.assertNotIn("written once more", notes(trial))

    def test_a_second_difference_stays_one(self) -> None:
        image = sample_for("stm32f072", 3000)
        trial = run("stm32f072", {"flash": image}, faults=("drop-to-host=420", "worn=0x08000123"), compare=False)
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (7, "worn-flash"))
        self.assertIn("written once more", notes(trial))


class TakenUpAgain(unittest.TestCase):
    def test_a_loader_that_fell_silent_is_reset_and_the_rest_written(self) -> None:
        image = sample_for("pic18f4520", 3000)
        trial = run("pic18f4520", {"flash": image}, faults=("restart-after=1500",))
        self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), trial.findings)
        self.assertIn("reset, and resumed", notes(trial))
        ended = [event.step for event in trial.events if type(event).__name__ == "StepEnded"]
        self.assertEqual(len(ended), len(set(ended)))  # each step has one end

    def test_a_chip_that_reset_itself_is_told(self) -> None:
        trial = run("stm32f072", {"flash": sample_for("stm32f072", 3000)}, faults=("restart-after=1500",))
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (6, "restarted"))
        self.assertNotIn("resumed", notes(trial))

    def test_faults_are_parsed(self) -> None:
        faults = Faults.parse(("late=20", "late-once=7:1500", "late-some=90", "cut-after=40"), 5)
        self.assertEqual(
            (faults.late, faults.late_once, faults.late_some, faults.cut_after, faults.seed),
            (20, {7: 1500}, 90, 40, 5),
        )
        for wrong in ("late=soon", "late-once=7", "late-some"):
            with self.assertRaises(ValueError):
                Faults.parse((wrong,))


if __name__ == "__main__":
    unittest.main()
