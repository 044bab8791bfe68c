"""From the events of a run to a row of the journal."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

from greenstep.bench.trial import Trial, prepare, sample_for
from greenstep.core.events import RunEnded, StepEnded
from greenstep.core.image.granules import Remembered, granules_of
from greenstep.core.journal.records import RECORDED, JournalEntry, Recorder
from greenstep.core.plan.write_options import CompareWith, WriteOptions

AT = "2026-11-02T09:30:00+01:00"


def entry_of(board: str, *, held: bool = False, stop_at: str = "", **options: Any) -> tuple[JournalEntry, Trial]:
    """The row of a run; `held`: the chip holds the image already; `stop_at`: Ctrl-C when that step has ended."""
    image = sample_for(board, 4000)
    images = {} if options.get("purpose", "upload") not in ("upload", "verify") else {"flash": image}
    runner, trial = prepare(board, images, **options)
    if held:
        first, written = prepare(board, {"flash": image})
        written.events.extend(first.run())
        trial.line.chip.flash[:] = written.line.chip.flash
    recorder = Recorder(runner.job, AT)
    events = runner.run()
    while True:
        try:
            event = next(events)
            while True:
                trial.events.append(event)
                recorder.see(event)
                if isinstance(event, RunEnded):
                    return recorder.entry(event, runner.outcome.unique_id), trial
                if not (stop_at and isinstance(event, StepEnded) and event.step == stop_at):
                    break
                stop_at = ""
                event = events.throw(KeyboardInterrupt())  # type: ignore[attr-defined]
        except StopIteration:
            raise AssertionError("no end") from None


class Rows(unittest.TestCase):
    def test_a_green_upload(self) -> None:
        entry, trial = entry_of("stm32f072", expect="brood probe 1.7")
        image = sample_for("stm32f072", 4000)
        self.assertEqual(
            (entry.at, entry.purpose, entry.chip, entry.unique_id, entry.port, entry.line),
            (AT, "upload", "stm32f07x", "303132333435363738393A3B", "virtual", "115200 8E1"),
        )
        self.assertEqual((entry.image, entry.image_bytes, entry.crc32), (image.name, 4000, f"{image.crc32():08X}"))
        self.assertEqual((entry.outcome, entry.exit_code, entry.finding), ("green", 0, ""))
        self.assertEqual((entry.version, entry.proof), ("brood probe 1.7 ready", "read back, 4,000 bytes equal"))
        self.assertIn('heard "brood probe 1.7"', entry.evidence)
        self.assertAlmostEqual(entry.seconds, trial.end.elapsed_s)
        self.assertAlmostEqual(entry.write_seconds, trial.step("write").elapsed_s)
        self.assertEqual(len(entry.sha256), 64)

    def test_what_was_left_alone_is_told_in_the_proof(self) -> None:
        entry, _ = entry_of("stm32f072", held=True)
        self.assertEqual(
            (entry.outcome, entry.proof, entry.write_seconds), ("green", "compared before, 4,000 bytes equal", 0.0)
        )

    def test_what_was_trusted_too(self) -> None:
        image = sample_for("stm32f072", 4000)
        entry, _ = entry_of(
            "stm32f072",
            held=True,
            options=WriteOptions(compare=CompareWith.JOURNAL),
            recall=lambda n, c: Remembered(9, granules_of(image, 0xFF)),
        )
        self.assertRegex(entry.proof, r"^sampled: [\d,]+ of 4,000 seen; the rest by journal 9$")

    def test_not_verified_is_not_green(self) -> None:
        entry, _ = entry_of("stm32f072", options=WriteOptions(verify=False))
        self.assertEqual((entry.outcome, entry.exit_code), ("unproven", 0))
        self.assertIn("not proven", entry.proof)

    def test_a_failure_with_its_finding(self) -> None:
        entry, _ = entry_of("stm32f072", faults=("worn=0x08000123",))
        self.assertEqual(
            (entry.outcome, entry.exit_code, entry.finding, entry.proof), ("failed", 7, "worn-flash", "")
        )
        entry, _ = entry_of("atmega328p", faults=("dead",))
        self.assertEqual((entry.outcome, entry.exit_code, entry.unique_id), ("failed", 4, ""))
        self.assertEqual(entry.chip, "ATmega328P")

    def test_interrupted(self) -> None:
        entry, _ = entry_of("stm32f072", stop_at="erase")
        self.assertEqual((entry.outcome, entry.exit_code, entry.finding), ("interrupted", 130, ""))
        self.assertEqual(entry.unique_id, "303132333435363738393A3B")

    def test_a_restore_is_called_so(self) -> None:
        entry, _ = entry_of("stm32f072", options=WriteOptions(as_it_was=True))
        self.assertEqual((entry.purpose, entry.outcome), ("restore", "green"))

    def test_without_an_image(self) -> None:
        for purpose in ("backup", "erase"):
            entry, _ = entry_of("stm32f072", purpose=purpose, region=("flash", 0x08000000, 2048))
            self.assertIn(purpose, RECORDED)
            self.assertEqual(
                (entry.purpose, entry.image, entry.crc32, entry.sha256, entry.version), (purpose, "", "", "", "")
            )
            self.assertEqual(entry.outcome, "green")
        self.assertIn(
            "read in two ways and equal",
            entry_of("stm32f072", purpose="backup", region=("flash", 0x08000000, 512))[0].proof,
        )

    def test_the_numbers_that_chips_tell(self) -> None:
        numbers = {board: entry_of(board)[0].unique_id for board in ("esp32", "lpc1769", "atmega328p", "pic18f4620")}
        self.assertRegex(numbers["esp32"], "^([0-9A-F]{2}:){5}[0-9A-F]{2}$")
        self.assertGreater(len(numbers["lpc1769"]), 8)
        self.assertEqual((numbers["atmega328p"], numbers["pic18f4620"]), ("", ""))

    def test_two_boards_of_a_kind_tell_two_numbers(self) -> None:
        for board in ("stm32f072", "esp32", "esp8266", "lpc1769"):
            told = set()
            for copy in range(3):
                runner, trial = prepare(board, purpose="greet")
                trial.line.chip.copy = copy
                trial.events.extend(runner.run())
                told.add(runner.outcome.unique_id)
            self.assertEqual(len(told - {""}), 3, board)


class OfTheJob(unittest.TestCase):
    def test_several_images_and_a_board_s_name(self) -> None:
        image = sample_for("atmega2560", 3000)
        names = replace(image, name="names.bin", pieces=(replace(image.pieces[0], address=0, data=b"hive 7"),))
        runner, trial = prepare("atmega2560", {"flash": image, "eeprom": names})
        runner.job = replace(runner.job, board="frame-lift")
        recorder = Recorder(runner.job, AT)
        for event in runner.run():
            trial.events.append(event)
            recorder.see(event)
        entry = recorder.entry(trial.end, runner.outcome.unique_id)
        self.assertEqual(
            (entry.board, entry.image, entry.image_bytes), ("frame-lift", f"{image.name}, names.bin", 3006)
        )
        self.assertEqual(entry.crc32, f"{image.crc32():08X}")


if __name__ == "__main__":
    unittest.main()
