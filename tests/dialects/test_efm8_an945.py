"""EFM8: records without a checksum, so that all of the flash is proven; byte 0 comes last."""

from __future__ import annotations

import unittest

from greenstep.bench.trial import prepare, run, sample_for
from greenstep.core.dialects.efm8_an945 import Command, record

BOARD = "efm8bb1"


class Efm8(unittest.TestCase):
    def test_a_record_as_the_note_has_it(self) -> None:
        self.assertEqual(record(Command.SETUP, b"\xa5\xf1\x00"), bytes.fromhex("FF 24 04 31 A5 F1 00"))

    def test_what_went_elsewhere_is_found_and_mended(self) -> None:
        """Every character of one record to the chip, flipped by a high bit of an address or a length."""
        image = sample_for(BOARD, 1500)
        clean = run(BOARD, {"flash": image})
        first = clean.line.to_chip_count - 700
        for place in range(first, first + 140, 7):
            for mask in ("04", "10"):
                trial = run(BOARD, {"flash": image}, faults=(f"flip-to-chip={place}:{mask}",))
                with self.subTest(place=place, mask=mask):
                    self.assertTrue(trial.holds(image) or trial.end.exit_code)
                    if not trial.end.exit_code:
                        self.assertEqual(set(trial.line.chip.flash[1500:7680]), {0xFF})

    def test_a_cut_leaves_a_chip_that_stays_in_its_bootloader(self) -> None:
        image = sample_for(BOARD, 3000)
        runner, trial = prepare(BOARD, {"flash": image})
        trial.events.extend(runner.run())
        count = trial.line.to_chip_count
        for tenth in range(3, 10):
            cut = run(BOARD, {"flash": image}, faults=(f"cut-after={count * tenth // 10}",))
            self.assertEqual(cut.line.chip.flash[0], 0xFF, tenth)

    def test_the_derivative_is_told_where_its_number_is_known(self) -> None:
        trial = run(BOARD, purpose="greet")
        self.assertEqual(trial.step("chip").figures["number"], "3002")
        trial = run("efm8ub2", purpose="greet")
        self.assertEqual((trial.end.exit_code, "number" in trial.step("chip").figures), (0, False))


if __name__ == "__main__":
    unittest.main()
