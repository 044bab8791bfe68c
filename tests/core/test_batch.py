"""Counting many boards, and asking whether one is there."""

from __future__ import annotations

import unittest
from typing import Any

from greenstep.bench.trial import prepare, sample_for
from greenstep.core.batch.results import Batch, BoardResult
from greenstep.core.engine.runner import poll_for_chip
from greenstep.core.errors import Finding


def board(**values: Any) -> BoardResult:
    usual: dict[str, Any] = {
        "at": "2026-11-02T10:00:00+01:00", "port": "/dev/ttyUSB0", "board": "brood-probe", "chip": "STM32F07x",
        "unique_id": "", "green": True, "exit_code": 0, "seconds": 3.0, "summary": "brood-probe runs probe.hex",
    }  # fmt: skip
    return BoardResult(**{**usual, **values})


def failed(key: str, code: int, **values: Any) -> BoardResult:
    return board(green=False, exit_code=code, finding=key, cause=key, **values)


class Counting(unittest.TestCase):
    def test_numbers_counts_and_findings(self) -> None:
        batch = Batch()
        self.assertEqual(batch.add(board(unique_id="A")).number, 1)
        batch.add(failed("silence", 4), Finding("silence", "nothing answers"))
        batch.add(failed("worn-flash", 7), Finding("worn-flash", "cells are worn"))
        batch.add(failed("silence", 4), Finding("silence", "nothing answers"))
        batch.add(board(green=False))
        self.assertEqual((len(batch.results), batch.green, batch.done, len(batch.failed)), (5, 1, 1, 3))
        self.assertEqual(
            [(t.finding.key, t.boards) for t in batch.troubles], [("silence", (2, 4)), ("worn-flash", (3,))]
        )
        self.assertEqual(batch.exit_code, 4)

    def test_a_board_that_is_well_at_last_counts_as_well(self) -> None:
        batch = Batch()
        batch.add(failed("worn-flash", 7, unique_id="A"), Finding("worn-flash", "cells are worn"))
        again = batch.add(board(unique_id="A"))
        batch.add(board(unique_id="B"))
        self.assertEqual((again.same_as, batch.chips, batch.exit_code), (1, 2, 0))
        batch.add(failed("other-text", 8, unique_id="B"), Finding("other-text", "another text"))
        self.assertEqual(batch.exit_code, 8)

    def test_none(self) -> None:
        self.assertEqual((Batch().exit_code, Batch().green, Batch().troubles), (0, 0, []))


class Presence(unittest.TestCase):
    def asked(self, name: str, **options: Any) -> tuple[str | None, Any]:
        runner, trial = prepare(name, {"flash": sample_for(name, 3000)}, **options)
        return poll_for_chip(runner.job, runner.open_link), trial

    def test_a_chip_by_its_number_and_one_that_has_none(self) -> None:
        number, trial = self.asked("stm32f072")
        self.assertEqual(number, "303132333435363738393A3B")
        self.assertTrue(trial.link.closed)
        self.assertEqual(trial.line.chip.violations, [])
        self.assertEqual(self.asked("atmega328p")[0], "")
        self.assertRegex(self.asked("esp32")[0] or "", "^([0-9A-F]{2}:){5}[0-9A-F]{2}$")

    def test_another_chip_is_somebody_too(self) -> None:
        self.assertEqual(self.asked("stm32f072", chip="stm32f407vg")[0], "")

    def test_nobody(self) -> None:
        for options in ({"faults": ("dead",)}, {"faults": ("no-boot",)}, {"link_options": {"has_lines": False}}):
            with self.subTest(options):
                number, trial = self.asked("stm32f072", **options)
                self.assertIsNone(number)
                self.assertTrue(trial.link.closed)


if __name__ == "__main__":
    unittest.main()
