"""`propeller-1` and `propeller-2`: loaders that fill RAM, and what their short sums do not see."""

from __future__ import annotations

import unittest

from greenstep.bench.families.propeller import SimulatedPropeller1
from greenstep.bench.trial import run, sample_for
from greenstep.core.dialects.propeller_1 import HANDSHAKE, pseudo_random_bits, pulses
from greenstep.core.dialects.propeller_2 import in_text, sum_of_longs
from greenstep.core.image import Image, Piece

ONE, WITH_EEPROM, TWO, RP = "p8x32a", "p8x32a-eeprom", "p2x8c4m64p", "rp2350"


class IntoRam(unittest.TestCase):
    def test_it_is_told_and_nothing_is_compared_before(self) -> None:
        for board in (ONE, TWO, RP):
            trial = run(board, {"flash": sample_for(board, 900)})
            with self.subTest(board):
                self.assertEqual((trial.end.exit_code, trial.end.green), (0, True), trial.findings)
                self.assertIn("after the next reset it is gone", str(trial.events))
                self.assertIn("KiB RAM", trial.step("chip").evidence)
                self.assertIsNone(trial.step_or_none("compare"))

    def test_what_a_reset_loses_is_neither_verified_nor_saved_nor_erased(self) -> None:
        for board in (ONE, TWO, RP):
            for purpose in ("verify", "backup", "erase"):
                trial = run(
                    board, {"flash": sample_for(board, 300)} if purpose == "verify" else None, purpose=purpose
                )
                self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, f"cannot-{purpose}"))
                self.assertIsNone(trial.link)

    def test_a_start_without_an_answer_is_not_made_good_by_a_reset(self) -> None:
        """The reset would run the program in flash."""
        image = sample_for(RP, 900)
        count = run(RP, {"flash": image}, start=False).line.to_host_count
        trial = run(RP, {"flash": image}, faults=(f"drop-to-host={count}",))
        self.assertNotIn("started by a reset", str(trial.events))
        self.assertEqual((trial.end.exit_code, trial.step("start").outcome), (0, "unproven"))


class Propeller(unittest.TestCase):
    def test_the_sequence_and_the_pulses(self) -> None:
        self.assertEqual(pseudo_random_bits(10), [0, 1, 0, 1, 1, 1, 0, 0, 1, 1])
        self.assertEqual(pseudo_random_bits(510)[255:], pseudo_random_bits(255))
        self.assertEqual((len(HANDSHAKE), HANDSHAKE[0], set(HANDSHAKE[1:251])), (509, 0xF9, {0xFE, 0xFF}))
        self.assertEqual(pulses(1)[:2], b"\x93\x92")
        self.assertEqual((len(pulses(0)), pulses(0xFFFFFFFF)[-1]), (11, 0xFB))

    def test_a_character_too_many_or_too_few_is_seen_though_the_sum_is_right(self) -> None:
        """A program of one value in all its longs: a shift by whole longs leaves the sum of eight bits as it is."""
        body = bytearray(sample_for(ONE, 1200).pieces[0].data)
        body[200:] = b"\x92\x49\x24\x49" * 250
        body[5] = (0x14 - sum(body) + body[5]) & 0xFF
        image = Image("pump.binary", (Piece(0, bytes(body)),))
        for kind in ("drop", "repeat"):
            for place in range(1200, 3700, 333):
                trial = run(ONE, {"flash": image}, faults=(f"{kind}-to-chip={place}",), start=False)
                self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), (kind, place))

    def test_eight_bits_prove_nothing_on_a_line_that_damaged_the_handshake(self) -> None:
        """Nine characters in a row are damaged so that the sum, and the number of pulses, stay as they were."""
        masks = (0x9B, 0xEB, 0xC6, 0x9D, 0xD3, 0x88, 0x85, 0x0E, 0xA4)
        burst = [f"flip-to-chip={2164 + at}:{mask:02X}" for at, mask in enumerate(masks)]
        image = sample_for("p8x32a-eeprom", 2300, seed=5)
        trial = run(
            "p8x32a-eeprom", {"flash": image}, (*burst, "drop-to-chip=2749", "repeat-to-host=248"), seed=200209
        )
        self.assertEqual((trial.end.exit_code, trial.holds(image), trial.end.green), (0, False, False))
        self.assertIn("a sum of 8 bits misses one damage in 256", trial.step("verify").evidence)

    def test_the_eeprom_keeps_the_program(self) -> None:
        image = sample_for(WITH_EEPROM, 1500)
        trial = run(WITH_EEPROM, {"flash": image})
        chip = trial.line.chip
        assert isinstance(chip, SimulatedPropeller1)
        self.assertEqual(bytes(chip.stored[:1500]), image.pieces[0].data)
        self.assertIn("all 32 KiB of which are written", str(trial.events))

    def test_longs_that_sum_to_what_the_second_one_wants(self) -> None:
        self.assertEqual(sum_of_longs(b"\x01\x00\x00\x00\xff\xff\xff\xff"), 0)
        self.assertEqual(in_text(bytes(73)), b">" + b"A" * 96 + b">AA==")
        whole = run(TWO, {"flash": sample_for(TWO, 700)})
        self.assertIn("a long is put behind it", str(whole.events))
        held = bytes(whole.line.chip.flash[:704])
        self.assertEqual(sum_of_longs(held), 0x706F7250)
        again = run(TWO, {"flash": Image("pump.bin", (Piece(0, held),))})
        self.assertNotIn("a long is put behind it", str(again.events))


if __name__ == "__main__":
    unittest.main()
