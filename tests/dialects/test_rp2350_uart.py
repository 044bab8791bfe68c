"""`rp2350-uart`: blocks of 32 bytes into RAM, read back."""

from __future__ import annotations

import unittest

from greenstep.bench.trial import run, sample_for
from greenstep.core.image import Image, Piece

ONE, WITH_EEPROM, TWO, RP = "p8x32a", "p8x32a-eeprom", "p2x8c4m64p", "rp2350"


class Rp2350(unittest.TestCase):
    def test_gaps_are_filled_and_damage_anywhere_is_seen(self) -> None:
        image = sample_for(RP, 1500)
        far = Image("gateway.hex", (*image.pieces, Piece(0x20001000, b"41.3 kg" * 9)))
        trial = run(RP, {"flash": far})
        self.assertEqual((trial.end.exit_code, trial.line.chip.violations), (0, []), trial.findings)
        self.assertTrue(trial.holds(far))
        self.assertIn("bytes filled with 00", str(trial.events))
        count = run(RP, {"flash": image}, start=False).line.to_chip_count
        for place in range(60, count, 97):
            trial = run(RP, {"flash": image}, faults=(f"flip-to-chip={place}:10",))
            self.assertTrue(trial.holds(image) or trial.end.exit_code, place)


if __name__ == "__main__":
    unittest.main()
