"""The ladder: its steps and their evidence, how it is interrupted, and what it says of the chip."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

from greenstep.bench.families.xmodem import KINDS as RECEIVERS
from greenstep.bench.person import Hands
from greenstep.bench.trial import Trial, prepare, run, sample_for
from greenstep.core.dialects.registry import dialect_names
from greenstep.core.events import (
    Event,
    Found,
    HandsWanted,
    Noted,
    RunEnded,
    RunStarted,
    StepAdvanced,
    StepEnded,
    StepStarted,
)
from greenstep.core.hookup.circuits import hookup_from_table, named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import WriteOptions

from ..sample import some


class Green(unittest.TestCase):
    def test_steps_in_order_each_begun_and_ended(self) -> None:
        trial = run("stm32f072", {"flash": sample_for("stm32f072", 3000)})
        started = [event.step for event in trial.events if isinstance(event, StepStarted)]
        ended = [event.step for event in trial.events if isinstance(event, StepEnded)]
        steps = ["image", "port", "enter", "sync", "chip", "compare", "erase", "write", "verify", "start"]
        self.assertEqual((started, ended), (steps, steps))
        self.assertIsInstance(trial.events[0], RunStarted)

    def test_avr_has_no_erase_step(self) -> None:
        trial = run("atmega328p", {"flash": sample_for("atmega328p", 3000)})
        first = trial.events[0]
        assert isinstance(first, RunStarted)
        self.assertNotIn("erase", first.steps)

    def test_evidence_and_figures(self) -> None:
        image = sample_for("atmega328p", 3000)
        trial = run("atmega328p", {"flash": image})
        self.assertIn(f"crc32 {image.crc32():08X}", trial.step("image").evidence)
        self.assertIn("reset pulsed by DTR", trial.step("enter").evidence)
        self.assertIn("14 10 at the first try", trial.step("sync").evidence)
        self.assertIn("signature 1E 95 0F", trial.step("chip").evidence)
        self.assertIn("24 pages of 128", trial.step("write").evidence)
        self.assertIn("read back, 3,000 bytes equal", trial.step("verify").evidence)
        self.assertEqual(trial.step("write").figures["bytes"], 24 * 128)
        self.assertGreater(int(trial.step("verify").figures["line_percent"]), 80)

    def test_progress_rises_to_its_total(self) -> None:
        trial = run("stm32f103", {"flash": sample_for("stm32f103", 5000)})
        for step in ("erase", "write", "verify"):
            done = [e.done for e in trial.events if isinstance(e, StepAdvanced) and e.step == step]
            total = next(e.total for e in trial.events if isinstance(e, StepAdvanced) and e.step == step)
            self.assertEqual(done, sorted(set(done)))
            self.assertEqual(done[-1], total)

    def test_old_content_goes_and_the_rest_stays(self) -> None:
        runner, trial = prepare("stm32f103", {"flash": sample_for("stm32f103", 1500)})
        before = bytes(trial.line.chip.flash)  # type: ignore[attr-defined]
        trial.events.extend(runner.run())
        after = bytes(trial.line.chip.flash)  # type: ignore[attr-defined]
        self.assertEqual(after[1500:2048], b"\xff" * 548)
        self.assertEqual(after[2048:], before[2048:])

    def test_several_memories(self) -> None:
        image = sample_for("atmega328p", 3000)
        settings = Image("settings.bin", (Piece(5, b"hive 7"), Piece(0x90, b"north field")))
        trial = run("atmega328p", {"flash": image, "eeprom": settings})
        self.assertEqual(trial.end.exit_code, 0)
        self.assertTrue(trial.holds(image) and trial.holds(settings, "eeprom"))

    def test_erase_all(self) -> None:
        image = sample_for("stm32f103", 1500)
        trial = run("stm32f103", {"flash": image}, options=WriteOptions(erase_all=True))
        self.assertIn("the whole flash", trial.step("erase").evidence)
        self.assertEqual(set(trial.line.chip.flash[1500:]), {0xFF})  # type: ignore[attr-defined]

    def test_the_chips_own_checksum(self) -> None:
        image = sample_for("stm32c031", 3001)
        trial = run("stm32c031", {"flash": image})
        self.assertIn("the chip's own checksum", trial.step("verify").evidence)
        self.assertTrue(trial.holds(image))

    def test_a_worn_cell_is_found_by_the_checksum_and_by_reading(self) -> None:
        trial = run("stm32c031", {"flash": sample_for("stm32c031", 3000)}, faults=("worn=0x08000200",))
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (7, "worn-flash"))

    def test_turnarounds_of_a_slow_bridge(self) -> None:
        for turnaround_s in (0.0, 0.016, 0.06):
            for board in ("stm32f072", "atmega1284p"):
                with self.subTest(board, turnaround_s=turnaround_s):
                    image = sample_for(board, 2000)
                    trial = run(board, {"flash": image}, turnaround_s=turnaround_s)
                    self.assertTrue(trial.end.exit_code == 0 and trial.holds(image))


class NotGreen(unittest.TestCase):
    def test_not_verified_is_not_green(self) -> None:
        image = sample_for("stm32f072", 2000)
        trial = run("stm32f072", {"flash": image}, options=WriteOptions(verify=False), start=False)
        self.assertEqual((trial.end.exit_code, trial.end.green), (0, False))
        self.assertEqual(trial.step("verify").outcome, "unproven")
        self.assertIn("not verified", trial.end.summary)

    def test_a_reset_without_a_word_is_no_evidence(self) -> None:
        image = sample_for("stm32f072", 220)
        trial = run("stm32f072", {"flash": image})
        self.assertEqual((trial.step("start").outcome, trial.end.green, trial.end.exit_code), ("unproven", False, 0))
        self.assertEqual(trial.step("verify").outcome, "green")

    def test_steps_after_a_failure_are_not_reached(self) -> None:
        trial = run("stm32f072", {"flash": sample_for("stm32f072", 2000)}, faults=("locked",))
        outcomes = {event.step: event.outcome for event in trial.events if isinstance(event, StepEnded)}
        self.assertEqual(outcomes["chip"], "failed")
        self.assertEqual({outcomes[step] for step in ("erase", "write", "verify", "start")}, {"not reached"})
        self.assertIn("nothing on the chip was changed", trial.end.chip_state)

    def test_after_a_refusal_the_old_program_runs_again(self) -> None:
        for board, chip in (("stm32f072", "stm32f103"), ("atmega328p", "atmega1284p")):
            with self.subTest(board):
                trial = run(board, {"flash": sample_for(board, 2000)}, chip=chip)
                self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "other-chip"))
                trial.line.advance(trial.end.elapsed_s + 3)
                self.assertTrue(trial.line.chip.running)  # type: ignore[attr-defined]

    def test_entering_is_green_only_when_the_bootloader_answered(self) -> None:
        trial = run("stm32f072", {}, purpose="greet", faults=("dead",))
        self.assertEqual(trial.step("enter").outcome, "unproven")

    def test_refused_before_the_port_is_opened(self) -> None:
        trial = run("stm32f072", {"flash": sample_for("stm32f072", 200_000)})
        self.assertEqual(trial.end.exit_code, 5)
        self.assertIsNone(trial.link)

    def test_a_port_that_vanishes(self) -> None:
        for at_s, state in ((0.12, "nothing on the chip"), (0.6, "no whole application"), (0.8, "not verified")):
            with self.subTest(at_s):
                trial = run(
                    "stm32f072", {"flash": sample_for("stm32f072", 3000)}, link_options={"vanishes_at_s": at_s}
                )
                self.assertEqual((trial.end.exit_code, trial.findings[0].key), (3, "port-vanished"))
                self.assertIn(state, trial.end.chip_state)

    def test_a_page_damaged_on_its_way_is_written_again(self) -> None:
        image = sample_for("atmega328p", 1000)
        trial = run("atmega328p", {"flash": image}, faults=("flip-to-chip=400:10",))
        notes = [event.text for event in trial.events if isinstance(event, Noted)]
        self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True))
        self.assertTrue(any("1 page written again" in note for note in notes), notes)

    def test_a_lost_character_in_a_block_is_made_good(self) -> None:
        for board in ("stm32f072", "atmega328p"):
            for direction in ("to-chip", "to-host"):
                image = sample_for(board, 1000)
                trial = run(
                    board, {"flash": image}, faults=(f"drop-{direction}={500 if direction == 'to-chip' else 75}",)
                )
                with self.subTest(board, direction=direction):
                    self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True))

    def test_a_damaged_byte_on_reading_is_read_again(self) -> None:
        clean = run("atmega328p", {"flash": sample_for("atmega328p", 1000)}, start=False)
        at = clean.line.to_host_count - 60
        trial = run("atmega328p", {"flash": sample_for("atmega328p", 1000)}, faults=(f"flip-to-host={at}:40",))
        notes = [event.text for event in trial.events if isinstance(event, Noted)]
        self.assertEqual(trial.end.exit_code, 0)
        self.assertTrue(any("read twice" in note for note in notes), notes)


class ByHand(unittest.TestCase):
    def test_the_person_is_told_and_waited_for(self) -> None:
        for board, level in (("stm32f072", "high"), ("atmega328p", "")):
            with self.subTest(board):
                image = sample_for(board, 2000)
                trial = run(
                    board, {"flash": image}, hands=Hands(9.0), hookup=named_hookup("by-hand", level),
                    link_options={"on_for_s": 5.0},
                )  # fmt: skip
                wanted = [event for event in trial.events if isinstance(event, HandsWanted)]
                self.assertEqual([event.step for event in wanted], ["sync", "put back"] if level else ["sync"])
                self.assertTrue(all("reset" in " ".join(event.moves) for event in wanted))
                self.assertTrue(trial.end.exit_code == 0 and trial.holds(image))

    def test_nobody_is_told_if_the_bootloader_answers_at_once(self) -> None:
        trial = run("stm32f072", {}, purpose="greet", hands=Hands(0.0), hookup=named_hookup("by-hand", "high"))
        self.assertFalse([event for event in trial.events if isinstance(event, HandsWanted)])

    def test_patience_ends(self) -> None:
        trial = run(
            "stm32f072",
            {},
            purpose="greet",
            hands=Hands(30.0),
            hookup=named_hookup("by-hand", "high"),
            patience_s=5.0,
        )
        self.assertEqual(trial.end.exit_code, 4)
        self.assertLess(trial.end.elapsed_s, 9.5)

    def test_a_port_without_lines_goes_on_by_hand(self) -> None:
        trial = run(
            "stm32f072", {}, purpose="greet", hands=Hands(2.0), hookup=named_hookup("dtr-reset-rts-boot", "high"),
            link_options={"has_lines": False},
        )  # fmt: skip
        self.assertEqual(trial.end.exit_code, 0)
        self.assertTrue(any(isinstance(e, Noted) and "by hand" in e.text for e in trial.events))

    def test_a_port_without_lines_starts_by_the_bootloaders_command(self) -> None:
        image = sample_for("stm32f072", 2000)
        trial = run(
            "stm32f072", {"flash": image}, hands=Hands(2.0), hookup=named_hookup("dtr-reset-rts-boot", "high"),
            link_options={"has_lines": False}, expect="brood probe 1.7",
        )  # fmt: skip
        self.assertEqual((trial.end.exit_code, trial.end.green), (0, True))

    def test_patience_with_lines_keeps_resetting(self) -> None:
        short = run("stm32f072", {}, purpose="greet", faults=("dead",))
        long = run("stm32f072", {}, purpose="greet", faults=("dead",), patience_s=20.0)
        self.assertGreater(long.end.elapsed_s, short.end.elapsed_s + 10)


class OtherPurposes(unittest.TestCase):
    def test_greet_changes_nothing_and_lets_the_program_run(self) -> None:
        for board in ("stm32f072", "atmega328p"):
            with self.subTest(board):
                runner, trial = prepare(board, {}, purpose="greet")
                before = bytes(trial.line.chip.flash)  # type: ignore[attr-defined]
                trial.events.extend(runner.run())
                self.assertEqual(trial.end.exit_code, 0)
                self.assertEqual(bytes(trial.line.chip.flash), before)  # type: ignore[attr-defined]
                trial.line.advance(trial.end.elapsed_s + 3)
                self.assertTrue(trial.line.chip.running)  # type: ignore[attr-defined]

    def test_greet_a_locked_chip(self) -> None:
        trial = run("stm32f072", {}, purpose="greet", faults=("locked",), chip="stm32")
        self.assertEqual(trial.end.exit_code, 0)
        self.assertTrue(any(isinstance(e, Noted) and "locked" in e.text for e in trial.events))

    def test_verify_tells_equal_from_different(self) -> None:
        for board in ("stm32f072", "stm32c031", "atmega328p"):
            old = sample_for(board, 6000, seed=99)
            runner, trial = prepare(board, {"flash": old}, purpose="verify")
            chip = trial.line.chip
            piece = old.pieces[0]
            chip.flash[: len(piece.data)] = piece.data  # type: ignore[attr-defined]
            trial.events.extend(runner.run())
            self.assertEqual(trial.end.exit_code, 0, trial.findings)
            other = run(board, {"flash": sample_for(board, 4000)}, purpose="verify")
            self.assertEqual((other.end.exit_code, other.findings[0].key), (7, "other-image"))
            other.line.advance(other.end.elapsed_s + 3)
            self.assertTrue(other.line.chip.running)  # type: ignore[attr-defined]

    def test_start(self) -> None:
        for board, text in (("stm32f072", "brood probe 1.6"), ("atmega328p", "hive scale 2.3")):
            with self.subTest(board):
                self.assertEqual(run(board, {}, purpose="start", expect=text).end.exit_code, 0)
        by_hand = run(
            "stm32f072", {}, purpose="start", expect="brood probe 1.6", hands=Hands(1.0),
            hookup=named_hookup("by-hand", "high"),
        )  # fmt: skip
        self.assertEqual(by_hand.end.exit_code, 0)

    def test_a_sequence_of_ones_own(self) -> None:
        table = {"enter": "dtr on, rts off; wait 20 ms; dtr off", "leave": "rts on; dtr on; wait 20 ms; dtr off"}
        image = sample_for("stm32f072", 2000)
        trial = run("stm32f072", {"flash": image}, hookup=hookup_from_table(table, "high"), expect="brood probe 1.7")
        self.assertTrue(trial.end.exit_code == 0 and trial.holds(image))

    def test_a_clone_that_was_allowed(self) -> None:
        image = sample_for("atmega328p", 2000)
        refused = run("atmega328p", {"flash": image}, chip="atmega168p")
        self.assertEqual(refused.end.exit_code, 5)
        allowed = run("atmega328p", {"flash": image}, chip="atmega168p", also_accepts=frozenset({0x1E950F}))
        self.assertEqual(allowed.end.exit_code, 0)


class Interrupted(unittest.TestCase):
    def interrupt_at(self, board: str, wanted: str, count: int = 1) -> tuple[Trial, list[Event]]:
        """Throw Ctrl-C into the run at the `count`th event of a step."""
        runner, trial = prepare(board, {"flash": sample_for(board, 4000)})
        run_of_events = runner.run()
        seen = 0
        for event in run_of_events:
            trial.events.append(event)
            if isinstance(event, StepStarted | StepAdvanced) and event.step == wanted:
                seen += 1
                if seen == count:
                    break
        rest = [run_of_events.throw(KeyboardInterrupt())]  # type: ignore[attr-defined]
        rest += list(run_of_events)
        trial.events += rest
        return trial, rest

    def test_at_any_step_the_port_is_closed_and_the_state_is_said(self) -> None:
        states = {
            "port": "nothing on the chip was changed",
            "enter": "nothing on the chip was changed",
            "sync": "nothing on the chip was changed",
            "chip": "nothing on the chip was changed",
            "erase": "erasing had begun",
            "write": "no whole application",
            "verify": "all is written, and not verified",
            "start": "written and verified",
        }
        for board in ("stm32f072", "atmega328p"):
            for step, state in states.items():
                if step == "erase" and board.startswith("atmega"):
                    continue
                with self.subTest(board, step=step):
                    trial, rest = self.interrupt_at(board, step, 2 if step in ("erase", "write", "verify") else 1)
                    end = trial.events[-1]
                    assert isinstance(end, RunEnded)
                    self.assertEqual(end.exit_code, 130)
                    self.assertIn(state, end.chip_state)
                    if trial.link is not None:
                        self.assertTrue(trial.link.closed)
                        self.assertEqual(trial.line.lines, (False, False))
                    self.assertFalse([e for e in rest if isinstance(e, StepEnded) and e.outcome == "green"])

    def throw_at(self, fault: str, kind: type[Event]) -> Trial:
        """Throw Ctrl-C at the first event of a kind, in an upload that a fault breaks."""
        runner, trial = prepare(
            "stm32f072", {"flash": sample_for("stm32f072", 4000)}, faults=(fault,), start=False, compare=False
        )
        events = runner.run()
        for event in events:
            trial.events.append(event)
            if isinstance(event, kind):
                break
        try:
            trial.events.append(events.throw(KeyboardInterrupt()))  # type: ignore[attr-defined]
            trial.events += list(events)
        except StopIteration:
            pass
        return trial

    def test_while_a_failure_is_being_told(self) -> None:
        trial = self.throw_at("silence-after=80", Found)
        self.assertEqual(trial.end.exit_code, 130)
        self.assertIn("no whole application", trial.end.chip_state)
        ended = [event.step for event in trial.events if isinstance(event, StepEnded)]
        self.assertEqual(len(ended), len(set(ended)))

    def test_after_the_end_nothing_is_taken_back(self) -> None:
        trial = self.throw_at("slow-erase=1", RunEnded)
        self.assertEqual((trial.end.exit_code, trial.end.green), (0, True))
        assert trial.link is not None
        self.assertTrue(trial.link.closed)

    def test_a_refusal_in_the_middle_is_not_called_unchanged(self) -> None:
        from .situations.stm32_rom import unwilling_after_five_blocks

        runner, trial = prepare("stm32f072", {"flash": sample_for("stm32f072", 4000)})
        unwilling_after_five_blocks(trial.line)
        trial.events.extend(runner.run())
        self.assertIn("1,280 of 4,000 bytes are written", trial.end.chip_state)

    def test_silence_while_verifying_proves_nothing_either_way(self) -> None:
        image = sample_for("stm32f072", 4000)
        silent = run("stm32f072", {"flash": image}, faults=("silence-after=100",), compare=False)
        self.assertEqual((silent.end.exit_code, silent.end.chip_state), (7, "all is written, and not verified"))
        worn = run("stm32f072", {"flash": image}, faults=("worn=0x08000123",))
        self.assertEqual(worn.end.chip_state, "what the chip holds is not the image; upload again")

    def test_how_much_was_written(self) -> None:
        trial, _ = self.interrupt_at("stm32f072", "write", 4)
        self.assertIn("768 of 4,000 bytes are written, up to the block at 08000200", trial.end.chip_state)

    def test_a_receiver_of_files_is_told_that_nothing_more_comes(self) -> None:
        trial, _ = self.interrupt_at("smoke-fan", "write", 3)
        self.assertEqual(
            trial.line._speaking[-1][1], RECEIVERS["smoke-fan"].menu
        )  # cancelled, it shows its menu again
        self.assertEqual(trial.line.chip.violations, [])


class FaultRuns(unittest.TestCase):
    def test_one_damaged_character_never_ends_in_a_false_green(self) -> None:
        from benchmarks.beside import BOARDS as FAULTY
        from benchmarks.fault_runs import one_run

        self.assertEqual(set(FAULTY), set(dialect_names()))
        results = [one_run(dialect, seed) for dialect in FAULTY for seed in some((10_018, 10_019), 1)]
        self.assertEqual([result for result in results if result.wrong], [])
        green = sum(result.well for result in results)
        self.assertGreaterEqual(green, 0.95 * len(results))

    def test_a_line_that_damages_many_never_ends_in_a_false_green(self) -> None:
        """Some of each dialect, and such as have ended green before: what was proven and written again, what stands
        behind the image's own untouched pages, sums of 8 bits."""
        from benchmarks.beside import BOARDS as FAULTY
        from benchmarks.noisy_lines import one_run

        results = [one_run(dialect, seed) for dialect in FAULTY for seed in range(1)]
        results += [one_run("pic-ds40001779", seed) for seed in (470, 2294, 2790)]
        results += [one_run("xmodem", 1443), one_run("propeller-1", 1500)]
        self.assertEqual([result for result in results if result.wrong], [])

    def test_every_place_of_the_beginning(self) -> None:
        image = sample_for("stm32f103", 600)
        for first, direction in enumerate(("to-chip", "to-host")):
            for place in range(first, 40, 5):
                with self.subTest(direction, place=place):
                    trial = run("stm32f103", {"flash": image}, faults=(f"drop-{direction}={place}",))
                    if trial.end.exit_code == 0:
                        self.assertTrue(trial.holds(image))
                    else:
                        self.assertTrue(trial.findings)

    def test_repeated_characters(self) -> None:
        for board in ("stm32f072", "atmega328p"):
            image = sample_for(board, 600)
            for place in range(0, 700, 97):
                for direction in ("to-chip", "to-host"):
                    with self.subTest(board, place=place, direction=direction):
                        trial = run(board, {"flash": image}, faults=(f"repeat-{direction}={place}",))
                        self.assertTrue(trial.findings if trial.end.exit_code else trial.holds(image))

    def test_after_a_power_cut_the_next_upload_is_green(self) -> None:
        """`python -m benchmarks.power_cuts` does it at every 1 %."""
        from benchmarks.power_cuts import BOARDS as CUT
        from benchmarks.power_cuts import cut_at

        self.assertEqual(set(CUT), set(dialect_names()))
        for percent, (dialect, board) in enumerate(CUT.items(), 51):
            with self.subTest(dialect):
                how, broken, _ = cut_at(board, percent)
                self.assertEqual(how, "cut one ended with a finding, next one green")
                self.assertTrue(broken.findings)

    def test_unknown_numbers_of_chips(self) -> None:
        runner, trial = prepare("stm32f072", {}, purpose="greet", chip="stm32")
        kind: Any = trial.line.chip.kind  # type: ignore[attr-defined]
        trial.line.chip.kind = replace(kind, ident=0x7AB)  # type: ignore[attr-defined]
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "other-chip"))
        self.assertIn("unknown chip", trial.findings[0].cause)


if __name__ == "__main__":
    unittest.main()
