"""After the start: texts waited for, lines sent, secrets kept."""

from __future__ import annotations

import unittest
from typing import Any

from greenstep.bench.line import SimulatedLine
from greenstep.bench.trial import Trial, prepare, sample_for
from greenstep.core.events import Noted
from greenstep.core.plan.write_options import TalkLine
from greenstep.core.safety.secrets import Secrets

BOARD = "stm32f072"
IMAGE = sample_for(BOARD, 1500)
TALK = (
    TalkLine("probe 1.7", 2.0, "name hive-7"),
    TalkLine("name set", 2.0, "honey-17", "HIVE_KEY"),
    TalkLine("key set", 2.0),
)


def answering(line: SimulatedLine, answers: dict[bytes, bytes]) -> list[bytes]:
    """Make the program answer whole lines; returns the list they are noted in."""
    taken: list[bytes] = []
    chip: Any = line.chip
    receive, buffer = chip.receive, bytearray()

    def received(at_s: float, value: int) -> None:
        receive(at_s, value)
        if getattr(chip, "running", True) and value >= 0:
            buffer.append(value)
            if buffer.endswith(b"\r\n"):
                taken.append(bytes(buffer[:-2]))
                chip.send(answers.get(taken[-1].split()[0], b"?") + b"\r\n")
                buffer.clear()

    chip.receive = received
    return taken


def talked(
    talk: tuple[TalkLine, ...], answers: dict[bytes, bytes], **more: Any
) -> tuple[Trial, list[bytes], Secrets]:
    secrets = Secrets()
    secrets.add("honey-17")
    runner, trial = prepare(BOARD, {"flash": IMAGE}, purpose="start", talk=talk, secrets=secrets, **more)
    taken = answering(trial.line, answers)
    trial.events.extend(runner.run())
    return trial, taken, secrets


class Talk(unittest.TestCase):
    def start(self, *talk: TalkLine, answers: dict[bytes, bytes], **more: Any) -> tuple[Trial, list[bytes]]:
        trial, taken, _ = talked(talk, answers, **more)
        return trial, taken

    def test_a_talk_to_the_end_is_green(self) -> None:
        first = TalkLine("probe 1.6", 2.0, "name hive-7")
        trial, taken = self.start(first, *TALK[1:], answers={b"name": b"name set", b"honey-17": b"key set"})
        self.assertEqual(taken, [b"name hive-7", b"honey-17"])
        self.assertEqual(trial.step("talk").outcome, "green")
        self.assertEqual((trial.end.green, trial.end.exit_code), (True, 0))

    def test_the_secret_is_in_no_event(self) -> None:
        first = TalkLine("probe 1.6", 2.0, "name hive-7")
        trial, _ = self.start(first, *TALK[1:], answers={b"name": b"name set", b"honey-17": b"no honey-17 here"})
        self.assertEqual(trial.end.exit_code, 8)
        self.assertNotIn("honey-17", repr(trial.events))
        self.assertIn("sent HIVE_KEY, a secret", [event.text for event in trial.events if isinstance(event, Noted)])

    def test_a_text_that_does_not_come_ends_it_with_what_was_heard(self) -> None:
        trial, _ = self.start(TALK[0], answers={})
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (8, "other-text"))
        self.assertIn('did not say "probe 1.7"', trial.findings[0].cause)

    def test_sending_alone_proves_nothing(self) -> None:
        trial, taken = self.start(TalkLine(send="hello"), answers={})
        self.assertEqual(taken, [b"hello"])
        self.assertEqual(trial.step("talk").outcome, "unproven")
        self.assertEqual((trial.end.green, trial.end.exit_code), (False, 0))

    def test_behind_an_expected_text_nothing_is_lost(self) -> None:
        trial, _ = self.start(TalkLine("ready", 1.0), answers={}, expect="brood probe")
        self.assertEqual(trial.step("talk").outcome, "green")


if __name__ == "__main__":
    unittest.main()
