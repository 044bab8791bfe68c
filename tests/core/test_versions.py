"""Which version a chip holds, before and after, and by what that is known."""

from __future__ import annotations

import unittest
from dataclasses import replace

from greenstep.bench.boards import BOARDS
from greenstep.bench.trial import prepare, run, sample_for
from greenstep.core.image import Image
from greenstep.core.image.granules import Remembered, granules_of
from greenstep.core.image.versions import Version, change, day_of, number_in, same_text_in, version_of


def remembered(image: Image, version: str) -> Remembered:
    return Remembered(31, granules_of(image, 0xFF), version, image.name, "2026-11-14T09:30:00+01:00")


class Texts(unittest.TestCase):
    def test_numbers(self) -> None:
        for text, number in (
            ("hive scale 2.3 ready", "2.3"), ("v1.12.3-rc1", "1.12.3"), ("Nov 14 2026", ""), ("1.2.3.4.5", ""),
            ("10.0", "10.0"), ("", ""),
        ):  # fmt: skip
            self.assertEqual(number_in(text), number, text)

    def test_the_same_words_with_other_digits(self) -> None:
        held = b"\x00\x01hive scale 2.13 ready\r\n\xff"
        self.assertEqual(same_text_in(held, "hive scale 2.4 ready"), "hive scale 2.13 ready")
        self.assertEqual(same_text_in(held, "frame lift 1.0 ready"), "")
        self.assertEqual(same_text_in(held, "2.4"), "", "digits alone are in every memory")

    def test_what_is_said_of_a_change(self) -> None:
        old, new = Version("2.3"), Version("2.4")
        self.assertEqual(change(old, new), "2.3 -> 2.4")
        self.assertEqual((change(None, new), change(new, new), change(old, Version())), ("", "", ""))
        dated = Version(image="scale.hex", at="2026-11-14T09:30:00+01:00", journal=31, known="journal")
        self.assertEqual(change(dated, new), "14 November 2026 -> 2.4")
        self.assertEqual((day_of("yesterday"), version_of(sample_for("hive-scale", 900)).number), ("", "2.4"))


class OfAChip(unittest.TestCase):
    def test_an_upload_ends_with_both(self) -> None:
        for board, said in (
            ("brood-probe", "1.6 -> 1.7"),
            ("hive-scale", "2.3 -> 2.4"),
            ("frame-lift", "1.0 -> 1.1"),
        ):
            trial = run(board, {"flash": sample_for(board, 6000)})
            self.assertTrue(trial.end.summary.endswith(said), trial.end.summary)
            self.assertEqual(f"{trial.end.version_before} -> {trial.end.version_after}", said)

    def test_nothing_is_said_where_nothing_is_known(self) -> None:
        runner, trial = prepare(
            "brood-probe", {"flash": sample_for("brood-probe", 3000)}, link_options={"on_for_s": 9.0}
        )
        trial.line.chip.flash[:6000] = b"\xff" * 6000
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.version_before, trial.end.version_after), ("", "1.7"))
        self.assertNotIn("->", trial.end.summary)

    def test_a_verify_names_the_other_image(self) -> None:
        board = BOARDS["brood-probe"]
        old = board.program(board.texts[0], 6000, 99)
        for recall, said in (
            (None, ": 1.6"), (lambda n, c: remembered(old, "brood probe 1.6 ready"), ": 1.6, journal 31"),
        ):  # fmt: skip
            trial = run("brood-probe", {"flash": sample_for("brood-probe", 6000)}, purpose="verify", recall=recall)
            self.assertEqual(trial.findings[0].key, "other-image")
            self.assertTrue(trial.findings[0].cause.endswith(said), trial.findings[0].cause)

    def test_the_journal_is_believed_as_far_as_a_sample_goes(self) -> None:
        board = BOARDS["brood-probe"]
        held, other = board.program(board.texts[0], 6000, 99), sample_for("brood-probe", 6000)
        for image, known in ((held, "the journal and a sample agree"), (other, "")):
            trial = run(
                "brood-probe", purpose="greet", recall=lambda n, c, i=image: remembered(i, "says no version"),
                link_options={"on_for_s": 9.0},
            )  # fmt: skip
            self.assertIn(known, str(trial.step("chip").figures.get("holds", "")))
            self.assertEqual("holds" in trial.step("chip").figures, bool(known))

    def test_where_reading_is_slow_the_journal_is_quoted_and_no_more(self) -> None:
        image = sample_for("esp32", 3000)
        trial = run(
            "esp32", purpose="greet", recall=lambda n, c: replace(remembered(image, ""), version="gateway 1.0")
        )
        self.assertIn("not looked at", str(trial.step("chip").figures["holds"]))

    def test_a_conversation_that_breaks_off_tells_nothing(self) -> None:
        whole = run("brood-probe", {"flash": sample_for("brood-probe", 3000)})
        self.assertEqual(whole.end.exit_code, 0)
        chip = run("brood-probe", purpose="greet", faults=("locked",), chip="stm32")
        self.assertNotIn("holds", chip.step("chip").figures)


if __name__ == "__main__":
    unittest.main()
