"""What a run reports is what was done to the chip, also where it ends badly or in parts."""

from __future__ import annotations

import unittest
import zlib
from typing import Any
from unittest.mock import patch

from greenstep.bench.families.xmodem import SimulatedXmodem
from greenstep.bench.trial import Trial, prepare, run, sample_for
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects import esp_rom
from greenstep.core.dialects.stm32_rom import Stm32Rom
from greenstep.core.events import Noted
from greenstep.core.image import Image, Piece
from greenstep.core.link import LineSettings


def said(trial: Trial) -> str:
    return " | ".join(event.text for event in trial.events if isinstance(event, Noted))


class Locks(unittest.TestCase):
    def test_an_unlock_that_erased_and_left_the_lock_does_not_say_that_nothing_changed(self) -> None:
        trial = run("stm32f072", purpose="unlock", faults=("locked", "lock-stays"))
        self.assertEqual(set(trial.line.chip.flash), {0xFF})
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (6, "unlock-without-effect"))
        self.assertIn("an unlock erases the flash", trial.end.chip_state)
        self.assertNotIn("nothing", trial.end.chip_state)

    def test_a_lock_whose_answer_is_lost_is_not_called_nothing(self) -> None:
        clean = run("stm32f072", purpose="lock")
        locked_and_red = 0
        for place in range(1, clean.line.to_host_count + 1):
            trial = run("stm32f072", purpose="lock", faults=(f"silence-after={place}",))
            if trial.line.chip.locked and trial.end.exit_code:  # type: ignore[attr-defined]
                locked_and_red += 1
                self.assertNotIn("nothing on the chip", trial.end.chip_state, place)
                self.assertNotEqual(trial.end.exit_code, 5)
        self.assertGreater(locked_and_red, 0)


class Causes(unittest.TestCase):
    def test_a_rate_that_the_adapter_cannot_make_while_a_cause_is_sought(self) -> None:
        faults = ("no-boot", "rate-refused=74880")
        trial = run("stm32f072", purpose="greet", faults=faults, console=LineSettings(74880))
        self.assertEqual(trial.end.exit_code, 4)
        self.assertTrue(trial.findings)

    def test_silence_while_a_copy_is_compared_is_a_failed_proof(self) -> None:
        trial = run("stm32f072", {"flash": sample_for("stm32f072", 3000)}, faults=("silence-after=100",))
        self.assertEqual((trial.step("compare").outcome, trial.end.exit_code), ("failed", 7))
        self.assertIn("nothing on the chip was changed", trial.end.chip_state)


class Proofs(unittest.TestCase):
    def test_verify_of_what_no_reading_shows(self) -> None:
        hidden = Image("", (Piece(0, sample_for("lpc1769", 900).pieces[0].data[:64]),))
        trial = run("lpc1769", {"flash": hidden}, purpose="verify")
        told = said(trial) + trial.end.summary + trial.step("verify").evidence
        self.assertNotEqual(trial.step("verify").outcome, "green")
        self.assertIn("not verified", trial.end.summary)
        self.assertNotIn("written", told)
        self.assertNotIn("before the copy", told)


class Amounts(unittest.TestCase):
    def test_an_image_is_packed_once(self) -> None:
        esp_rom.deflated.cache_clear()
        image = sample_for("esp32", 30000)
        with patch.object(esp_rom.zlib, "compress", wraps=zlib.compress) as packed:
            trial = run("esp32", {"flash": image})
        self.assertEqual(trial.end.exit_code, 0)
        self.assertEqual(packed.call_count, len(image.pieces))

    def test_a_layout_keeps_what_is_reserved(self) -> None:
        from dataclasses import replace

        part = Catalogue.load().find("stm32f103").first
        flash = replace(part.flash, reserved_bottom=0x1000, reserved_top=0x400, block=512)
        link: Any = None
        found = Stm32Rom(link)._layout(replace(part, memories=(flash,)), 64)
        self.assertEqual((found.reserved_bottom, found.reserved_top, found.block), (0x1000, 0x400, 512))

    def test_blocks_are_counted_as_they_were_sent(self) -> None:
        for board, words in (("smoke-fan", "blocks of 1024"), ("xmodem-crc", "blocks of 128")):
            with self.subTest(board):
                trial = run(board, {"flash": sample_for(board, 5000)})
                self.assertEqual(trial.end.exit_code, 0)
                self.assertIn(words, trial.step("write").evidence)

    def test_one_block_is_one(self) -> None:
        clean = run("stm32c031", purpose="backup")
        trial = run("stm32c031", purpose="backup", faults=(f"flip-to-host={clean.line.to_host_count - 2000}:04",))
        self.assertEqual(trial.end.exit_code, 0)
        self.assertIn("1 block read again", said(trial))


class Heard(unittest.TestCase):
    def test_a_long_log_is_kept_from_its_first_byte_for_whoever_listens_on(self) -> None:
        log = "frames " + " ".join(f"{number:04}" for number in range(1200))
        runner, trial = prepare(
            "stm32f072", {"flash": sample_for("stm32f072", 900)}, faults=(f"says={log}",), expect="1199",
            expect_within_s=9.0, keeps_open=True,
        )  # fmt: skip
        trial.events.extend(runner.run())
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        self.assertIn(log.encode(), runner.outcome.link.collected)


class OneFile(unittest.TestCase):
    def test_a_receiver_that_calls_for_no_other_file(self) -> None:
        """It is over when its EOT is acknowledged; the menu that follows is the loader's own."""
        for board in ("ymodem", "ymodem-once", "ymodem-twice"):
            with self.subTest(board):
                image = sample_for(board, 5000)
                trial = run(board, {"flash": image})
                chip = trial.line.chip
                assert isinstance(chip, SimulatedXmodem)
                self.assertEqual(chip.batch_ended, board != "ymodem-once")
                self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), trial.findings)


if __name__ == "__main__":
    unittest.main()
