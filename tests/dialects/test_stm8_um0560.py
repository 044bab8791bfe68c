"""STM8: told from an STM32, and writing only with the maker's routines."""

from __future__ import annotations

import unittest
from typing import Any

from greenstep.bench.trial import prepare, run, sample_for
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.events import Noted
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import WriteOptions

BOARD = "stm8s105"


class Stm8(unittest.TestCase):
    def test_without_the_routines_it_reads_and_changes_nothing(self) -> None:
        image = sample_for(BOARD, 900)
        for purpose, key in (("upload", "needs-routines"), ("erase", "refused-command")):
            runner, trial = prepare(
                BOARD, {"flash": image} if purpose == "upload" else None, purpose=purpose, options=WriteOptions()
            )  # type: ignore[arg-type]
            before = bytes(trial.line.chip.flash)
            trial.events.extend(runner.run())
            self.assertEqual((trial.end.exit_code != 0, trial.findings[0].key), (True, key))
            self.assertEqual((bytes(trial.line.chip.flash), trial.line.chip.violations), (before, []))
        backup = run(BOARD, purpose="backup", region=("flash", 0x8000, 0x400), options=WriteOptions())
        self.assertEqual((backup.end.exit_code, backup.end.green), (0, True), backup.findings)

    def test_other_routines_than_its_own_are_refused_by_the_chip(self) -> None:
        wrong = Image("routines.s19", (Piece(0xA0, bytes(range(200))),))
        trial = run(BOARD, {"flash": sample_for(BOARD, 900)}, options=WriteOptions(settings={"routines": wrong}))
        self.assertNotEqual(trial.end.exit_code, 0)
        self.assertNotEqual(trial.line.chip.violations, [])
        large = Image("routines.s19", (Piece(0xA0, bytes(3000)),))
        trial = run(BOARD, {"flash": sample_for(BOARD, 900)}, options=WriteOptions(settings={"routines": large}))
        self.assertIn("too large", str(trial.findings))

    def test_the_routines_come_again_after_a_reset(self) -> None:
        image = sample_for(BOARD, 3000)
        runner, trial = prepare(BOARD, {"flash": image}, faults=("restart-after=1527",))
        trial.events.extend(runner.run())
        chip: Any = trial.line.chip
        self.assertEqual((trial.end.exit_code, trial.end.green, chip.violations), (0, True, []))
        self.assertTrue(any("reset, and resumed" in event.text for event in trial.events if isinstance(event, Noted)))
        self.assertTrue(trial.holds(image))

    def test_an_stm32_is_not_taken_for_one(self) -> None:
        wired = named_hookup("dtr-reset-rts-boot", "high")
        trial = run("stm32f072", purpose="greet", chip="stm8s105x6", hookup=wired)
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (4, "other-dialect"))
        trial = run(BOARD, purpose="greet", chip="stm32f072")
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (4, "other-dialect"))
        self.assertIn("as that of an STM8", trial.findings[0].cause)


class Silicon(unittest.TestCase):
    def test_reply_mode_and_a_loader_that_says_that_it_is_busy(self) -> None:
        image = sample_for("stm8s105", 3000)
        settings = prepare("stm8s105")[0].job.options.settings
        for reply in (False, True):
            for busy in (False, True):
                options = WriteOptions(settings={**settings, "reply": "yes" if reply else "auto"})
                runner, trial = prepare("stm8s105", {"flash": image}, options=options, start=False)
                chip: Any = trial.line.chip
                chip.reply, chip.says_busy = reply, busy
                trial.events.extend(runner.run())
                with self.subTest(reply=reply, busy=busy):
                    self.assertEqual((trial.end.exit_code, trial.end.green), (0, True), trial.findings)
                    self.assertEqual(chip.violations, [])
        self.assertTrue(Catalogue.load().find("stm8l152x6").first.extra["reply"])


if __name__ == "__main__":
    unittest.main()
