"""Presses at any moment, by people of any habit: a small fixed sample of what benchmarks/by_hand.py measures."""

from __future__ import annotations

import unittest

from benchmarks.by_hand import entered, starts_after_power_up, told_after, uploaded
from greenstep.bench.person import HABITS
from greenstep.core.events import HeardMeanwhile

BOARDS = ("stm32f103", "atmega328p", "esp32c3", "lpc1114", "pic18f46k22", "p8x32a", "m480", "ra4m1", "efm32")


class Moments(unittest.TestCase):
    def test_a_press_at_any_moment_leads_in(self) -> None:
        for board in BOARDS:
            for presses in ((0.55,), (3.21,), (7.9, 8.6), (14.02, 14.9, 15.3), (19.4,)):
                with self.subTest(board, presses=presses):
                    self.assertEqual(entered(board, presses).end.exit_code, 0)

    def test_a_forgotten_boot_pin_is_told_within_a_second(self) -> None:
        for board in ("stm32f103", "esp8266", "lpc1114", "ra4m1", "mspm0l1306", "efm32"):
            for press_s in (2.3, 6.36, 9.1):
                told_s = told_after(board, press_s)
                self.assertTrue(told_s is not None and told_s <= 1.0, (board, press_s, told_s))

    def test_a_second_press_at_once_costs_no_third_where_the_loader_measures_the_rate(self) -> None:
        """What it hears first after the second reset must be a question, not a command."""
        for board in ("lpc1769", "lpc1114", "stm32f103", "mkl27z256", "efm8bb1"):
            for after_s in (0.73, 2.8):
                with self.subTest(board, after_s=after_s):
                    trial = uploaded(board, after_s, "twice")
                    self.assertEqual(trial.end.exit_code, 0, trial.findings)
                    resets = [e for e in trial.events if isinstance(e, HeardMeanwhile) and e.step == "sync"]
                    self.assertEqual([e.finding.key for e in resets if e.finding.key == "reset-again"], [])

    def test_after_a_green_end_a_power_up_starts_the_program(self) -> None:
        for board in ("stm32f072", "esp32", "nrf52832", "samd21g18"):
            for habit in ("", *HABITS):
                with self.subTest(board, habit=habit):
                    trial = uploaded(board, 2.0, habit)  # type: ignore[arg-type]
                    self.assertEqual(trial.end.exit_code, 0, trial.findings)
                    self.assertEqual(trial.end.green, habit != "leaves")
                    if trial.end.green:
                        self.assertTrue(starts_after_power_up(trial))


if __name__ == "__main__":
    unittest.main()
