"""The highest rate that adapter, wires and chip carry: found, proven, remembered, and left when the line hurts."""

from __future__ import annotations

import re
import unittest
from typing import Any

from benchmarks.fastest_rate import BOARDS, FIRST, one_run
from greenstep.bench.person import Hands
from greenstep.bench.trial import Trial, prepare, run, sample_for
from greenstep.core.events import Noted, StepAdvanced
from greenstep.core.hookup.circuits import named_hookup

PROVING = tuple(board for board in BOARDS if not board.startswith(("efm8", "msp430")))
"""A record of an EFM8 is answered by one character; the MSP430's rates end at the safe one."""


class Memory:
    """Remembers one line's rate."""

    def __init__(self, baud: int | None = None) -> None:
        self.baud = baud

    def known(self) -> int | None:
        return self.baud

    def keep(self, baud: int) -> None:
        self.baud = baud


def upload(board: str, *faults: str, baud: int | None = None, size: int = 3000, **more: Any) -> tuple[Trial, Memory]:
    memory = Memory(baud)
    return run(board, {"flash": sample_for(board, size)}, faults, rates=memory, **more), memory


def notes(trial: Trial) -> str:
    return "\n".join(event.text for event in trial.events if isinstance(event, Noted))


class Finding(unittest.TestCase):
    def assert_green(self, trial: Trial, board: str, size: int = 3000) -> None:
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        self.assertTrue(trial.holds(sample_for(board, size)))

    def test_the_lowest_of_the_limits_decides(self) -> None:
        for board, faults, highest in (
            ("stm32g071", ("chip-limit=1000000", "adapter-limit=1500000"), 1_000_000),
            ("stm32f072", ("chip-limit=2000000", "adapter-limit=921600"), 921_600),
            ("stm32c031", ("chip-limit=460800",), 460_800),
            ("apiary-gateway", ("noise-above=921600",), 921_600),
            ("apiary-gateway", (), 2_000_000),
            ("rain-gauge", ("chip-limit=1000000", "noise-above=230400"), 230_400),
            ("entrance-counter", (), 230_400),
            ("feeder-pump", ("chip-limit=460800",), 460_800),
            ("stm32g071", ("adapter-limit=115200",), 115_200),
            ("mspm0g3507", (), 1_000_000),
            ("p2x8c4m64p", ("noise-above=1500000",), 1_500_000),
            ("ra4m1", (), 1_000_000),
            ("cc2538", (), 460_800),
            ("stm8s105", ("chip-limit=230400",), 230_400),
            ("mkl27z256", ("chip-limit=115200",), 115_200),
        ):
            with self.subTest(board=board, faults=faults):
                trial, memory = upload(board, *faults, seed=3)
                self.assert_green(trial, board)
                self.assertEqual(memory.baud, highest)

    def test_what_stands_in_the_way_is_told_apart(self) -> None:
        for board, fault, words in (
            ("stm32g071", "adapter-limit=460800", "2000000 to 921600: refused by the adapter"),
            ("stm32g071", "chip-limit=460800", "2000000 to 921600: no answer (chip or adapter makes no such rate)"),
            ("entrance-counter", "console=115200", "2000000 to 460800: refused by the chip"),
            (
                "apiary-gateway",
                "noise-above=460800",
                "2000000 to 921600: characters damaged (wires, ground, or clocks",
            ),
            ("msp430fr5969", "console=115200", "2000000 to 230400: not among the rates of its loader"),
            ("mspm0g3507", "console=115200", "2000000: refused by the chip; 1500000: not among the rates of its"),
        ):
            with self.subTest(fault=fault):
                self.assertIn(words, notes(upload(board, fault)[0]))

    def test_at_least_4_kib_are_carried_each_way_first(self) -> None:
        for board in PROVING:
            with self.subTest(board=board):
                trial, memory = upload(board, purpose="greet")
                said = next(line for line in notes(trial).splitlines() if f"now at {memory.baud} baud" in line)
                counted = re.search(r"([\d,]+) characters out and ([\d,]+) back", said)
                assert counted is not None, said
                for number in counted.groups():
                    self.assertGreaterEqual(int(number.replace(",", "")), 4096, said)

    def test_a_rate_found_before_is_used_without_looking(self) -> None:
        first, memory = upload("stm32g071")
        again, _ = upload("stm32g071", baud=memory.baud)
        self.assertIn("at 460800 baud, found before", notes(again))
        assert first.link is not None and again.link is not None
        self.assertLess(again.link.now(), first.link.now())

    def test_a_loader_that_is_asked_at_another_rate_goes_to_the_one_that_is_known(self) -> None:
        for board, known in (("msp430fr5969", 115_200), ("mspm0g3507", 115_200), ("ra4m1", 230_400)):
            with self.subTest(board=board):
                trial, _ = upload(board, baud=known)
                self.assert_green(trial, board)
                self.assertIn(f"at {known} baud, found before", notes(trial))
                assert trial.link is not None
                safe = run(board, {"flash": sample_for(board, 3000)}).link
                assert safe is not None
                self.assertLess(trial.link.now(), safe.now() + 0.1)

    def test_a_rate_that_is_carried_no_longer_is_looked_for_again(self) -> None:
        for board in ("stm32g071", "apiary-gateway"):
            with self.subTest(board=board):
                trial, memory = upload(board, "chip-limit=230400", baud=921_600)
                self.assert_green(trial, board)
                self.assertEqual(memory.baud, 230_400)

    def test_where_nothing_guards_an_erase_a_known_rate_is_proven_again(self) -> None:
        """Seed 5153: the size that the loader is told to erase is damaged, and so is what lies beside the image."""
        trial, memory = upload("apiary-gateway", "noise-above=115200", baud=230_400, size=12_000, seed=5153)
        self.assert_green(trial, "apiary-gateway", 12_000)
        self.assertEqual(memory.baud, 115_200)
        self.assertIn("230400 baud was found before, and damages characters now", notes(trial))
        trial, _ = upload("apiary-gateway", baud=2_000_000)
        self.assertIn("at 2000000 baud, found before", notes(trial))

    def test_where_nothing_can_be_found_it_says_so(self) -> None:
        self.assertIn("its loader answers at one rate: 115200 baud", notes(upload("hive-scale")[0]))
        self.assertIn("no faster rate can be proven with this loader: 115200 baud", notes(upload("tm4c123")[0]))
        by_hand, _ = upload("stm32g071", hookup=named_hookup("by-hand", "high"), patience_s=1.0)
        self.assertEqual(by_hand.end.exit_code, 4)  # nobody resets it
        trial, memory = upload("stm32g071", hands=None, link_options={"has_lines": False})
        self.assertEqual((trial.end.exit_code, memory.baud), (4, None))

    def test_the_chip_is_left_as_it_was(self) -> None:
        for board in BOARDS:
            with self.subTest(board=board):
                runner, trial = prepare(board, purpose="greet", rates=Memory())
                before = bytes(trial.line.chip.flash)
                trial.events.extend(runner.run())
                self.assertEqual(trial.end.exit_code, 0, trial.findings)
                self.assertEqual(bytes(trial.line.chip.flash), before)


class Hurting(unittest.TestCase):
    SIZE = 9_000

    def worsened(self, board: str, step: str, seed: int, to: int = 230_400) -> tuple[Trial, Memory, bool]:
        """An upload whose line becomes noisy above a rate in the middle of a step. Returns whether what was written
        by then stayed on the chip all the time."""
        memory, image = Memory(), sample_for(board, self.SIZE)
        runner, trial = prepare(board, {"flash": image}, ("chip-limit=921600",), seed=seed, rates=memory)
        first = image.pieces[0].data[:512]
        stayed, written = True, False
        for event in runner.run():
            trial.events.append(event)
            if isinstance(event, StepAdvanced) and event.step == step and event.done > event.total // 2:
                trial.line.faults.noise_above = to
                written = True
            if written and step == "write" and not board.startswith("apiary"):
                stayed = stayed and bytes(trial.line.chip.flash[:512]) == first
        return trial, memory, stayed

    def test_it_steps_down_and_keeps_what_was_written(self) -> None:
        for board in ("stm32g071", "apiary-gateway"):
            for step in ("write", "verify") if board == "stm32g071" else ("write",):
                for seed in range(2):
                    with self.subTest(board=board, step=step, seed=seed):
                        trial, memory, stayed = self.worsened(board, step, seed)
                        self.assertEqual(trial.end.exit_code, 0, trial.findings)
                        self.assertTrue(trial.holds(sample_for(board, self.SIZE)))
                        self.assertTrue(stayed)
                        self.assertIn(memory.baud, (230_400, 460_800, 921_600))

    def test_it_says_what_it_does(self) -> None:
        said = "\n".join(notes(self.worsened("stm32g071", "write", seed)[0]) for seed in range(2))
        self.assertIn("a lower rate is looked for", said)
        self.assertIn("now at 230400 baud", said)

    def test_where_nothing_guards_an_erase_the_line_is_looked_at_before_the_next(self) -> None:
        """Seed 948: the line worsens just before the ROM is told to erase the second part."""
        self.assertTrue(one_run(948, FIRST).right)

    def test_what_was_in_ram_or_not_checked_yet_is_written_again(self) -> None:
        for seed, board in ((4, "p2x8c4m64p"), (24, "efm8bb1")):
            with self.subTest(board=board):
                self.assertTrue(one_run(seed, (board,)).green)

    def test_a_change_that_was_taken_for_another_is_not_forgotten_with_the_rate(self) -> None:
        """Seed 44: a row is written to another address, where nothing is looked at afterwards."""
        run = one_run(44, ("pic18f26k40",))
        self.assertEqual((run.green, run.told_beside), (False, True))

    def test_a_damaged_list_of_commands_makes_no_other_chip(self) -> None:
        """Seeds 34 and 93: the code of a command is damaged at a rate on trial, and at one of another day."""
        for seed in (34, 93):
            self.assertTrue(one_run(seed, ("stm32c031",)).right)

    def test_a_refusal_that_is_meant_is_not_taken_for_a_bad_line(self) -> None:
        """A worn place fails at every rate: it is tried once more at the safe one, and reported."""
        trial, _ = upload("stm32g071", "worn=0x08000100", size=3000)
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (7, "worn-flash"))


class Slower(unittest.TestCase):
    """The board's own rate hurts, and its loader measures the rate, or is told one."""

    def noisy(self, board: str, seed: int, carried: int = 60_000, **options: Any) -> Trial:
        faults = (f"noise-above={carried}",)
        return run(board, {"flash": sample_for(board, 2300, seed=5)}, faults, seed=seed, **options)

    def test_a_lower_rate_is_taken(self) -> None:
        for board in ("stm32f072", "lpc1769", "ra4m1", "pic18f4520", "cc2650", "msp430f5438a"):
            with self.subTest(board):
                trial = self.noisy(board, 2)
                image = sample_for(board, 2300, seed=5)
                self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), trial.findings)
                self.assertIn("once more, at 57600 baud", notes(trial))
                self.assertEqual(trial.end.green, trial.end.summary.endswith("at 57600 baud"), trial.end.summary)

    def test_the_next_when_that_hurts_too(self) -> None:
        trial = self.noisy("stm32f072", 2, 20_000)
        self.assertIn("once more, at 19200 baud", notes(trial))
        self.assertEqual(trial.end.exit_code, 0, trial.findings)

    def test_not_by_hand_and_not_for_a_rate_that_is_the_loaders_own(self) -> None:
        for trial in (
            self.noisy("stm32f072", 2, hookup=named_hookup("by-hand", "high"), hands=Hands(1.0)),
            self.noisy("atmega328p", 2),
        ):
            self.assertNotIn("once more, at", notes(trial))

    def test_what_is_refused_for_good_is_refused_again(self) -> None:
        """And the finding is of what was refused."""
        image = sample_for("stm32f072", 2300)
        trial = run("stm32f072", {"flash": image}, ("write-protected=0",))
        self.assertEqual((trial.end.exit_code != 0, "once more" in notes(trial)), (True, False), trial.findings)
