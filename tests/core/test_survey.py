"""Finding out what is on a line: hookups found, rates found, meanings told."""

from __future__ import annotations

import random
import unittest

from benchmarks.greet_alone import LONGEST_S, alone
from greenstep.bench.boards import BOARDS
from greenstep.bench.circuits import (
    CapacitorPulse,
    Circuit,
    CrossPair,
    DtrResetRtsBoot,
    NoLines,
    PinChange,
    RtsResetDtrBoot,
)
from greenstep.bench.faults import Faults
from greenstep.bench.line import SimulatedLine
from greenstep.bench.person import Hands
from greenstep.bench.trial import run
from greenstep.bench.virtual_link import VirtualLink
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.registry import all_dialects, find_dialect
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.hookup.drive import Driver
from greenstep.core.link import LineSettings, LinesMissing
from greenstep.core.survey.heard import find_rate, meaning_of
from greenstep.core.survey.hookups import (
    Candidate,
    HeardBefore,
    HookupFound,
    HookupTried,
    ask_by_hand,
    by_maker,
    candidates_for,
    find_hookup,
)
from greenstep.core.trace.recording import RecordingLink
from greenstep.store.board import BoardSettings
from greenstep.work.board import Board
from greenstep.work.surveying import scope

from ..sample import boards

AT = LineSettings(115200)
BOTH = [
    *candidates_for(find_dialect("avr-061"), "", 115200),
    *candidates_for(find_dialect("stm32-rom"), "high", 115200),
    *candidates_for(find_dialect("esp-rom"), "low", 115200),
]


def line_of(board: str, circuit: Circuit, *faults: str) -> SimulatedLine:
    line = BOARDS[board].build(Faults.parse(faults))
    line.circuit = circuit
    return line


def searched(
    line: SimulatedLine, candidates: list[Candidate] = BOTH, **options: bool
) -> tuple[HookupFound, list[HookupTried], RecordingLink]:
    link = RecordingLink(VirtualLink(line, AT, on_for_s=20.0, **options))  # type: ignore[arg-type]
    events = list(find_hookup(link, candidates, AT))
    last = events[-1]
    assert isinstance(last, HookupFound)
    return last, [event for event in events if isinstance(event, HookupTried)], link


class Learning(unittest.TestCase):
    def test_each_circuit_is_found_and_its_way_out_heard(self) -> None:
        boards: list[tuple[str, Circuit]] = [
            ("atmega328p", CapacitorPulse("dtr")), ("atmega328p", CapacitorPulse("rts")), ("stm32f072", DtrResetRtsBoot()),
            ("stm32f072", RtsResetDtrBoot()), ("esp32", CrossPair()), ("stm32f103", RtsResetDtrBoot()),
        ]  # fmt: skip
        for board, circuit in boards:
            with self.subTest(board, circuit=circuit.hookup):
                found, _, _ = searched(line_of(board, circuit))
                assert found.candidate is not None
                self.assertEqual((found.candidate.hookup.name, found.leaves), (circuit.hookup, "heard"))

    def test_a_loader_that_runs_already_without_a_program_counts(self) -> None:
        """No program is heard, so nothing tells whether a line resets it: it is there all the same."""
        for circuit in (CapacitorPulse("dtr"), NoLines()):
            with self.subTest(circuit=circuit):
                line = line_of("pic18f46k22", circuit)
                line.chip.flash[:0xFC00] = b"\xff" * 0xFC00
                pic, avr = (candidates_for(find_dialect(name), "", 115200) for name in ("pic-an1310", "avr-061"))
                found, tried, link = searched(line, [*avr, *pic])
                assert found.candidate is not None
                got = (found.candidate.dialect.name, found.candidate.hookup.name, found.running_already != "")
                self.assertEqual(got, ("pic-an1310", "by-hand", True))
                self.assertEqual({one.dialect for one in tried if one.dialect}, {"pic-an1310"})
                self.assertLess(link.now() - 20.0, LONGEST_S)

    def test_and_where_every_dialect_is_asked(self) -> None:
        """Others' questions may have it measure the rate anew, or spoil it until it is reset."""
        for again, circuit, found_by in (
            (True, CapacitorPulse("dtr"), "by-hand"), (True, NoLines(), "by-hand"), (False, CapacitorPulse("dtr"), "cap-dtr"),
        ):  # fmt: skip
            with self.subTest(again=again, circuit=circuit):
                line = line_of("pic18f46k22", circuit)
                line.chip.flash[:0xFC00] = b"\xff" * 0xFC00
                line.chip.measures_again = again  # type: ignore[attr-defined]
                found, _, link = searched(line, scope(Board("", BoardSettings())))
                assert found.candidate is not None
                self.assertEqual(
                    (found.candidate.dialect.name, found.candidate.hookup.name), ("pic-an1310", found_by)
                )
                self.assertLess(link.now() - 20.0, LONGEST_S if again else 200.0)

    def test_with_a_port_alone_each_is_known_within_thirty_seconds(self) -> None:
        """`python -m benchmarks.greet_alone` does all boards of the bench."""
        for board, said in (
            ("atmega168", "avr-061, cap-dtr, 57600"), ("atmega1280", "avr-068, cap-dtr, 57600"),
            ("stm32f103", "stm32-rom, rts-reset-dtr-boot, 115200"), ("pic18f67j50", "pic-an1310, cap-dtr, 115200"),
        ):  # fmt: skip
            _, found, took_s = alone(board)
            self.assertEqual(found, said)
            self.assertLess(took_s, LONGEST_S)

    def test_an_adapter_of_a_chip_maker_is_asked_for_its_chips_first(self) -> None:
        self.assertEqual(by_maker(BOTH, "303A:1001")[0].dialect.name, "esp-rom")
        self.assertEqual(by_maker(BOTH, "0483:374B")[0].dialect.name, "stm32-rom")
        for usb in ("1A86:7523", ""):
            self.assertEqual(by_maker(BOTH, usb), BOTH)

    def test_a_silent_program_is_asked_at_all_usual_rates(self) -> None:
        line = line_of("atmega168", CapacitorPulse("dtr"), "says= ")
        found, tried, _ = searched(line, candidates_for(find_dialect("avr-061"), "", 115200))
        assert found.candidate is not None
        self.assertEqual((found.candidate.baud, tried[-1].outcome), (57600, "answered"))

    def test_a_boot_pin_behind_an_inverter(self) -> None:
        class Inverted(DtrResetRtsBoot):
            def moved(self, at_s: float, before: tuple[bool, bool], after: tuple[bool, bool]) -> list[PinChange]:
                return [PinChange(at_s, after[0], after[1])]

        found, _, _ = searched(line_of("stm32f072", Inverted()))
        assert found.candidate is not None and found.candidate.hookup.boot is not None
        self.assertEqual((found.candidate.hookup.name, found.leaves), ("dtr-reset-rts-boot, boot inverted", "heard"))
        self.assertTrue(found.candidate.hookup.boot.asserted)

    def test_nothing_is_written(self) -> None:
        line = line_of("stm32f072", RtsResetDtrBoot())
        before = bytes(line.chip.flash)  # type: ignore[attr-defined]
        searched(line)
        self.assertEqual(bytes(line.chip.flash), before)  # type: ignore[attr-defined]

    def test_a_blank_chip_has_no_text_to_prove_its_way_out(self) -> None:
        line = line_of("stm32f072", RtsResetDtrBoot())
        line.chip.flash[:] = b"\xff" * len(line.chip.flash)  # type: ignore[attr-defined]
        found, _, _ = searched(line)
        assert found.candidate is not None
        self.assertEqual((found.candidate.hookup.name, found.leaves), ("rts-reset-dtr-boot", "silent"))

    def test_reset_without_boot_pin_is_told_by_the_programs_text(self) -> None:
        found, tried, _ = searched(line_of("stm32f072", DtrResetRtsBoot(), "no-boot"))
        self.assertIsNone(found.candidate)
        self.assertTrue(found.resets)
        self.assertIn("brood probe 1.6", next(event.meaning.words for event in tried if event.outcome == "resets"))

    def test_three_wires_teach_nothing(self) -> None:
        found, tried, _ = searched(line_of("stm32f072", NoLines()))
        self.assertEqual((found.candidate, found.resets), (None, ()))
        self.assertEqual({event.outcome for event in tried}, {"silent"})

    def test_a_loader_that_runs_already_is_no_success_of_a_hookup(self) -> None:
        line = line_of("stm32f072", NoLines())
        Hands(0.0).press(line, 1.0)
        found, tried, link = searched(line)
        assert found.candidate is not None
        self.assertEqual((found.candidate.hookup.name, found.candidate.dialect.name), ("by-hand", "stm32-rom"))
        self.assertEqual({event.outcome for event in tried}, {"silent"})
        self.assertTrue(found.running_already)
        self.assertGreater(link.sent_total, 0)

    def test_a_port_without_lines_says_so(self) -> None:
        link = RecordingLink(VirtualLink(line_of("stm32f072", NoLines()), AT, has_lines=False))
        with self.assertRaises(LinesMissing):
            list(find_hookup(link, BOTH, AT))


WITH_MSP430 = [
    *BOTH,
    *candidates_for(find_dialect("msp430-slau319"), "high", 9600),
    *candidates_for(find_dialect("msp430-slau550"), "high", 115200),
]


class MovesOfTheirOwn(unittest.TestCase):
    def test_two_edges_are_tried_besides_the_usual_moves(self) -> None:
        for board, dialect in (("msp430g2553", "msp430-slau319"), ("msp430fr5969", "msp430-slau550")):
            for circuit in (DtrResetRtsBoot(), RtsResetDtrBoot()):
                found, tried, _ = searched(line_of(board, circuit), WITH_MSP430)
                with self.subTest(board, hookup=circuit.hookup):
                    assert found.candidate is not None
                    self.assertEqual(
                        (found.candidate.dialect.name, found.candidate.hookup.name), (dialect, circuit.hookup)
                    )
                    self.assertEqual(found.leaves, "heard")
                    self.assertIn("resets", [one.outcome for one in tried])

    def test_usual_moves_are_heard_to_fail_once_and_not_for_each_dialect(self) -> None:
        """Where the program starts again, at the console's rate or another, nobody is asked behind those moves."""
        for faults in ((), ("console=9600",)):
            _, tried, _ = searched(line_of("msp430fr5969", DtrResetRtsBoot(), *faults), WITH_MSP430)
            usual = [one for one in tried if one.hookup == "dtr-reset-rts-boot" and "msp430" not in one.dialect]
            self.assertLessEqual(len([one for one in usual if one.dialect != "esp-rom"]), 2, usual)

    def test_who_takes_one_question_after_a_reset_is_not_asked_again(self) -> None:
        candidates = [*BOTH, *candidates_for(find_dialect("propeller-1"), "", 115200)]
        for circuit in (CapacitorPulse("dtr"), CapacitorPulse("rts")):
            found, _, _ = searched(line_of("p8x32a", circuit), candidates)
            assert found.candidate is not None
            self.assertEqual(
                (found.candidate.dialect.name, found.candidate.hookup.name), ("propeller-1", circuit.hookup)
            )


class EveryQuestion(unittest.TestCase):
    def test_no_chip_is_changed_by_any_dialect_s_question(self) -> None:
        """In its loader, after a reset for each question, and then without one."""
        for name, board in boards(1).items():
            line = board.build()
            chip = line.chip
            hookup = named_hookup(board.circuit.hookup, Catalogue.load().find(board.chip).first.boot_level)
            link = RecordingLink(VirtualLink(line, AT, on_for_s=1.0))
            driver = Driver(link, hookup)
            link.read(1, 0.1)
            before = {memory: bytes(getattr(chip, memory)) for memory in chip.memories}
            for resets in (True, False):
                for dialect in all_dialects():
                    if resets and hookup.enter is not None:
                        driver.enter(dialect.spec.asking.enters_on_break)
                    link.configure(LineSettings(board.baud, dialect.frame))
                    asked = dialect(link)
                    for _ in range(2 if dialect.spec.asking.sent else 0):
                        asked.ask(min(0.2, dialect.spec.asking.wait_s))
            with self.subTest(name):
                after = {memory: bytes(getattr(chip, memory)) for memory in chip.memories}
                self.assertEqual([memory for memory in before if after[memory] != before[memory]], [])


class ByHand(unittest.TestCase):
    def test_whoever_answers_first_is_named(self) -> None:
        for board, dialect in (("stm32f072", "stm32-rom"), ("atmega328p", "avr-061")):
            for after_s in (0.5, 3.0, 13.0):
                with self.subTest(board, after_s=after_s):
                    line = line_of(board, NoLines())
                    presses = [20.0 + after_s + again_s for again_s in (0.0, 2.5, 5.0)]  # again, when nothing happens
                    line.change_pins(
                        [PinChange(at + held, held == 0.0, True) for at in presses for held in (0.0, 0.1)]
                    )
                    link = RecordingLink(VirtualLink(line, AT, on_for_s=20.0))
                    found = [candidate for candidate in ask_by_hand(link, BOTH, 30.0) if candidate is not None]
                    self.assertEqual([candidate.dialect.name for candidate in found], [dialect])

    def test_nobody_there(self) -> None:
        link = RecordingLink(VirtualLink(line_of("stm32f072", NoLines(), "dead"), AT))
        waits = list(ask_by_hand(link, BOTH, 4.0))
        self.assertEqual(set(waits), {None})


class Rates(unittest.TestCase):
    def found(self, baud: int, text: str = "hive scale 2.3 ready; cell 41.3 kg") -> tuple[int, int]:
        """(the rate that reads, or 0; how many were tried)."""
        line = line_of("atmega328p", CapacitorPulse("dtr"), "no-boot", f"console={baud}", f"says={text}")
        link = VirtualLink(line, AT)

        def stir() -> None:
            link.set_lines(False, False)
            link.sleep(0.01)
            link.set_lines(True, False)

        tried = list(find_rate(link, AT, 1.5, stir=stir))
        return (tried[-1].settings.baud if tried[-1].reads else 0), len(tried)

    def test_each_usual_rate_is_found_and_mostly_at_the_second_try(self) -> None:
        tries = []
        for baud in (115200, 9600, 19200, 38400, 57600, 74880, 230400, 460800, 4800):
            with self.subTest(baud):
                found, number = self.found(baud)
                self.assertEqual(found, baud)
                tries.append(number)
        self.assertLessEqual(sorted(tries)[len(tries) // 2], 3)

    def test_a_rate_that_the_adapter_cannot_make_is_passed_over(self) -> None:
        refused = ("rate-refused=74880", "rate-refused=57600")
        line = line_of("atmega328p", CapacitorPulse("dtr"), "no-boot", "console=57600", *refused)
        tried = [t.settings.baud for t in find_rate(VirtualLink(line, AT), AT, 0.6)]
        self.assertNotIn(57600, tried)
        self.assertGreater(len(tried), 8)
        # a run goes on without it, and supposes what it could not try
        for board in ("atmega328p", "stm32f072"):
            trial = run(board, purpose="greet", faults=("no-boot", "console=57600", "rate-refused=57600"))
            self.assertEqual(trial.findings[0].key, "wrong-rate")
            self.assertIn("about 57600 baud", " ".join(trial.findings[0].evidence))

    def test_a_silent_line_reads_at_no_rate(self) -> None:
        link = VirtualLink(line_of("atmega328p", CapacitorPulse("dtr"), "dead"), AT)
        tried = list(find_rate(link, AT, 0.2))
        self.assertEqual([(t.score, t.reads) for t in tried], [(0, False)] * len(tried))
        self.assertGreater(len(tried), 8)

    def test_noise_is_no_text(self) -> None:
        line = line_of("atmega328p", CapacitorPulse("dtr"), "dead")
        link = VirtualLink(line, AT)
        source = random.Random(5)
        link.read = lambda size, timeout_s: source.randbytes(size)  # type: ignore[method-assign]
        link.sleep(0.0)
        tried = next(iter(find_rate(link, AT, 0.2)))
        self.assertFalse(tried.reads)
        self.assertLess(tried.score, 50)


class Meanings(unittest.TestCase):
    def test_each_kind(self) -> None:
        cases = {
            b"": ("nothing", "nothing heard"),
            b"\r\nhive scale 2.4 ready\r\n": ("text", "a program's text"),
            b"\x14\x10\x14\x10": ("bootloader", "AVR bootloader, AVR061"),
            b"\x14\x12\x14\x12": ("bootloader", "AVR bootloader, AVR061"),
            b"CCCC": ("bootloader", "XMODEM"),
            b"Synchronized\r\n": ("bootloader", "LPC"),
            b"\x0f\x0f\x0f": ("bootloader", "AN1310"),
            b"ets Jan  8 2013,rst cause:2, boot mode:(1,6)\r\n": ("rom text", "waits for an upload"),
            b"rst:0x10 (RTCWDT_RTC_RESET),boot:0x13 (SPI_FAST_FLASH_BOOT)\r\nflash read err, 1000\r\n": (
                "rom text",
                "in flash is damaged",
            ),
            b"csum err:0x9a!=0x5f\r\n": ("rom text", "damaged"),
            b"invalid header: 0xffffffff\r\n": ("rom text", "no image"),
            bytes.fromhex("c0 01 08 04 00 07 07 12 20 00 00 00 00 c0"): ("bootloader", "ESP ROM loader"),
            b"\x01\x83": ("noise", "neither"),
        }
        for data, (kind, said) in cases.items():
            with self.subTest(data=data):
                meaning = meaning_of(data, AT)
                self.assertEqual(meaning.kind, kind)
                self.assertIn(said, meaning.words)

    def test_the_esp_kinds_of_boot_are_told_apart(self) -> None:
        said = [
            meaning_of(text, AT).words
            for text in (
                b"boot mode:(3,6)\r\n",
                b"boot mode:(5,6)\r\n",
                b"boot:0x0 (USB_BOOT)\r\n",
                b"waiting for download\r\n",
            )
        ]
        for text, part in zip(said, ("starts the program", "boot mode 5", "USB_BOOT", "waits"), strict=True):
            self.assertIn(part, text)


class Events(unittest.TestCase):
    def test_what_was_heard_before_is_told_first(self) -> None:
        line = line_of("stm32f072", DtrResetRtsBoot())
        link = RecordingLink(VirtualLink(line, AT))  # just powered: its program talks
        first = next(iter(find_hookup(link, BOTH, AT)))
        assert isinstance(first, HeardBefore)
        self.assertIn("brood probe 1.6", first.meaning.words)


if __name__ == "__main__":
    unittest.main()
