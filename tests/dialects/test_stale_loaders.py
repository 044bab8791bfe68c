"""What an earlier conversation, another rate or a person's hands leave to be found out: loaders that are synchronised
already, programs that no reset reaches, and starts that a person makes."""

from __future__ import annotations

import unittest
from typing import Any

from greenstep.bench.boards import BOARDS
from greenstep.bench.circuits import NoLines
from greenstep.bench.person import Hands
from greenstep.bench.trial import Trial, prepare, run, sample_for
from greenstep.core.engine.job import OpenedPort
from greenstep.core.events import HandsWanted, StepEnded
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.link import LineSettings

from ..core.situations.situation import talks_every

BY_HAND = named_hookup("by-hand", "")


def wanted(trial: Trial) -> list[HandsWanted]:
    return [event for event in trial.events if isinstance(event, HandsWanted)]


class StartedByHand(unittest.TestCase):
    def run_on(self, board: str, again_s: float | None, **options: Any) -> Trial:
        """An upload by hand; so long after the start is asked for the person sets the boot pin back and resets."""
        hands = Hands(1.0, habit="leaves")
        runner, trial = prepare(board, {"flash": sample_for(board, 900)}, hands=hands, **options)
        for event in runner.run():
            trial.events.append(event)
            if isinstance(event, HandsWanted) and event.step == "put back" and again_s is not None:
                assert trial.link is not None
                Hands(again_s).leave(trial.line, trial.link.now())
        return trial

    def test_a_person_is_asked_and_waited_for(self) -> None:
        for expect in ("entrance", ""):
            with self.subTest(expect=expect):
                trial = self.run_on("lpc1114", 12.0, expect=expect, expect_within_s=2.0)
                self.assertEqual((trial.end.exit_code, trial.step("start").outcome), (0, "green"), trial.findings)
                self.assertEqual(wanted(trial)[-1].moves, ("let the ISP pin go", "press reset"))
                self.assertIn(
                    "entrance counter", trial.step("start").evidence.replace('heard "entrance"', "entrance counter")
                )

    def test_whoever_is_not_reset_is_told_at_the_end(self) -> None:
        moves = ("let the ISP pin go", "press reset")
        for expect in ("entrance", ""):
            trial = self.run_on("lpc1114", None, expect=expect, expect_within_s=2.0)
            self.assertEqual(
                (trial.end.exit_code, trial.end.green, trial.end.hands), (0, False, moves), trial.findings
            )
            self.assertEqual(trial.step("put back").outcome, "unproven")
            self.assertIn("still answers", trial.step("put back").evidence)
            self.assertIn("not started", trial.step("start").evidence)

    def test_a_loader_that_starts_the_program_itself_asks_nobody(self) -> None:
        trial = self.run_on("atmega328p", None, expect="hive scale")
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        self.assertEqual([event.step for event in wanted(trial) if event.step == "start"], [])

    def test_text_before_the_commands_answer_is_over_counts(self) -> None:
        trial = run("stm32f072", {"flash": sample_for("stm32f072", 900)}, hookup=BY_HAND, expect="brood probe",
                    hands=Hands(1.0), faults=("console=115200",), console=LineSettings(115200))  # fmt: skip
        self.assertEqual((trial.end.exit_code, trial.end.green), (0, True), trial.findings)


class InTheLoaderAlready(unittest.TestCase):
    def cut_off(self, board: str, **options: Any) -> Trial:
        """A run by hand that ends once the chip is known, and takes leave of nobody."""
        runner, trial = prepare(board, purpose="greet", hookup=BY_HAND, hands=Hands(1.0), **options)
        for event in runner.run():
            trial.events.append(event)
            if isinstance(event, StepEnded) and event.step == "chip":
                break
        self.assertEqual(trial.step("chip").outcome, "green")
        return trial

    def run_on(self, earlier: Trial, board: str, **options: Any) -> Trial:
        """On the chip of an earlier run, as that left it."""
        later, after = prepare(board, hookup=BY_HAND, patience_s=4.0, **options)

        def open_link(settings: LineSettings, lines: tuple[bool, bool]) -> OpenedPort:
            assert earlier.link is not None
            earlier.link.configure(settings)
            return OpenedPort(earlier.link, "once more")

        later.open_link = open_link
        after.events.extend(later.run())
        return after

    def test_a_second_command_right_after_the_first(self) -> None:
        fast = {"settings": LineSettings(230400)}
        for board, options in (
            ("lpc1769", {}), ("lpc1114", {}), ("lpc812", {}), ("lpc1769", fast), ("stm32f072", {}), ("esp32", {}),
            ("esp32", fast), ("pic18f4520", {}), ("atmega328p", {}), ("atmega2560", {}),
        ):  # fmt: skip
            with self.subTest(board, options=options):
                after = self.run_on(self.cut_off(board, **options), board, purpose="greet", **options)
                self.assertEqual(after.end.exit_code, 0, after.findings)
                if board.startswith("lpc"):
                    self.assertIn("synchronised before", after.step("sync").evidence)

    def test_and_after_one_that_took_its_leave(self) -> None:
        for board in ("lpc1769", "stm32f072"):
            earlier = run(board, purpose="greet", hookup=BY_HAND, hands=Hands(1.0))
            self.assertEqual(self.run_on(earlier, board, purpose="greet").end.exit_code, 0)


class OtherRates(unittest.TestCase):
    def test_an_avr_asked_at_another_rate(self) -> None:
        for board, asked in (
            ("atmega328p", 57600),
            ("atmega328p", 19200),
            ("atmega168", 115200),
            ("atmega2560", 57600),
        ):
            with self.subTest(board, asked=asked):
                trial = run(board, purpose="greet", settings=LineSettings(asked), console=LineSettings(asked))
                self.assertEqual((trial.end.exit_code, trial.findings[0].key), (4, "wrong-rate"))
                self.assertEqual(trial.findings[0].attempts[0], f"try --baud {BOARDS[board].baud}")

    def test_a_program_that_no_reset_reaches_and_that_talks_at_another_rate(self) -> None:
        for seconds in (2.1, 3.3, 4.7):
            with self.subTest(seconds):
                runner, trial = prepare("atmega328p", purpose="greet", faults=("console=9600",))
                trial.line.circuit = NoLines()
                talks_every(seconds, b"hive scale 41.3 kg, 18.2 C\r\n")(trial.line)
                trial.line.chip.console = LineSettings(9600)  # type: ignore[attr-defined]
                trial.events.extend(runner.run())
                self.assertNotIn("silence", trial.findings[0].key)
                self.assertEqual(trial.findings[0].key, "wrong-rate", trial.findings[0])

    def test_the_boot_text_of_an_esp8266_is_read_at_its_own_rate(self) -> None:
        trial = run("esp8266", purpose="greet", faults=("no-boot",))
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (4, "boot-pin"))
        self.assertIn("starts the program in its flash", trial.findings[0].cause)
        self.assertIn("boot mode:(3,6)", trial.findings[0].evidence[0])

    def test_another_text_behind_the_boot_text_of_an_esp8266_is_another_text(self) -> None:
        image = {"flash": sample_for("esp8266", 2300)}
        for faults, key in ((("says=wasps",), "other-text"), (("console=74880",), "wrong-rate")):
            with self.subTest(faults):
                trial = run("esp8266", image, faults, expect="rain gauge 0.7")
                self.assertEqual((trial.end.exit_code, trial.findings[0].key), (8, key))


if __name__ == "__main__":
    unittest.main()
