"""The simulated boards themselves: strict where the documents are, and with the delays of real ones."""

from __future__ import annotations

import unittest
from importlib import import_module

from greenstep.bench.boards import BOARDS, families_naming
from greenstep.bench.circuits import CapacitorPulse, CrossPair, DtrResetRtsBoot
from greenstep.bench.crc16 import crc16
from greenstep.bench.families import avr, avr_068, avr_109, esp, lpc, pic, stm32, xmodem
from greenstep.bench.families.avr import SimulatedAvr
from greenstep.bench.families.stm32 import KINDS as STM32_KINDS
from greenstep.bench.families.stm32 import SimulatedStm32
from greenstep.bench.faults import KINDS as FAULT_KINDS
from greenstep.bench.faults import Faults
from greenstep.bench.line import SimulatedLine
from greenstep.bench.trial import run, sample_for
from greenstep.bench.virtual_link import VirtualLink
from greenstep.core.hookup.circuits import hookup_from_table, named_hookup
from greenstep.core.hookup.drive import Driver
from greenstep.core.link import Frame, LineSettings, LinesMissing, LinkLost

EVEN = LineSettings(115200, Frame(8, "even", 1))


def frame(data: bytes) -> bytes:
    """Data with the XOR of its bytes behind it (AN3155)."""
    check = 0
    for byte in data:
        check ^= byte
    return data + bytes([check])


class StrictStm32(unittest.TestCase):
    """Raw bytes to the chip, and what it says."""

    def setUp(self) -> None:
        self.open("stm32f072")

    def open(self, kind: str, *faults: str) -> None:
        line = BOARDS[kind].build(Faults.parse(faults))
        hookup = named_hookup(line.circuit.hookup, "high")
        self.link = VirtualLink(line, EVEN, hookup.idle_lines)
        assert hookup.enter is not None
        Driver(self.link, hookup).run(hookup.enter)
        assert isinstance(line.chip, SimulatedStm32)
        self.chip = line.chip

    def say(self, data: bytes | str, wait_s: float = 0.3) -> str:
        self.link.write(bytes.fromhex(data) if isinstance(data, str) else data)
        return self.link.read(300, wait_s).hex(" ").upper()

    def erased(self, *pages: int) -> None:
        numbers = b"".join(page.to_bytes(2, "big") for page in pages)
        self.assertEqual(self.say("44 BB"), "79")
        self.assertEqual(self.say(frame((len(pages) - 1).to_bytes(2, "big") + numbers), 1.0), "79")

    def write(self, address: int, data: bytes) -> list[str]:
        answers = [self.say("31 CE"), self.say(frame(address.to_bytes(4, "big")))]
        if answers[-1] == "79":
            answers.append(self.say(frame(bytes([len(data) - 1]) + data)))
        return answers

    def test_commands_before_the_sync_measure_a_wrong_rate(self) -> None:
        self.assertEqual(self.say("00 FF"), "")
        self.assertEqual(self.say("7F"), "")
        self.assertIn("auto-baud on 00", self.chip.violations[0])

    def test_complement_and_unknown_codes(self) -> None:
        self.assertEqual(
            [self.say("7F"), self.say("00 FE"), self.say("7F 7F"), self.say("55 AA")], ["79", "1F", "1F", "1F"]
        )

    def test_writing_what_is_not_erased(self) -> None:
        self.say("7F")
        self.assertEqual(self.write(0x08000000, b"\x11\x22\x33\x44")[-1], "1F")
        self.assertIn("not erased", self.chip.violations[0])
        self.erased(0)
        self.assertEqual(self.write(0x08000000, b"\x11\x22\x33\x44")[-1], "79")

    def test_alignment_and_the_end_of_flash(self) -> None:
        self.say("7F")
        self.erased(0, 63)
        self.assertEqual(self.write(0x08000002, bytes(4))[-1], "1F")
        self.assertEqual(self.write(0x08000000, bytes(3))[-1], "1F")
        self.assertEqual(self.write(0x0801FFFC, bytes(8))[-1], "1F")
        self.assertEqual(self.write(0x08020000, bytes(4))[-1], "1F")
        self.assertEqual(len(self.chip.violations), 4)

    def test_eight_bytes_at_once_on_a_g0(self) -> None:
        self.open("stm32g071")
        self.say("7F")
        self.erased(0)
        self.assertEqual(self.write(0x08000004, bytes(8))[-1], "1F")
        self.assertEqual(self.write(0x08000000, bytes(4))[-1], "1F")
        self.assertEqual(self.write(0x08000000, bytes(8))[-1], "79")

    def test_wrong_checksums(self) -> None:
        self.say("7F")
        self.assertEqual([self.say("11 EE"), self.say("08 00 00 00 09")], ["79", "1F"])
        self.assertEqual([self.say("44 BB"), self.say("00 00 00 00 01")], ["79", "1F"])
        self.assertEqual([self.say("11 EE"), self.say("08 00 00 00 08"), self.say("03 FB")], ["79", "79", "1F"])

    def test_pages_that_are_not_there(self) -> None:
        self.say("7F")
        self.say("44 BB")
        self.assertEqual(self.say(frame(bytes([0, 0, 0, 64]))), "1F")

    def test_busy_is_deaf(self) -> None:
        self.say("7F")
        self.say("44 BB")
        self.link.write(frame(bytes([0, 0, 0, 5])))
        self.link.sleep(0.01)
        self.link.write(b"\x00")
        self.assertEqual(self.link.read(1, 1.0), b"\x79")
        self.assertIn("while the chip was busy", self.chip.violations[0])

    def test_parity_matters(self) -> None:
        self.link.configure(LineSettings(115200))
        self.assertEqual([self.say("7F"), self.say("00 FF")], ["79", "1F"])

    def test_auto_baud_follows_the_host(self) -> None:
        for baud in (1200, 9600, 57600, 230400):
            self.open("stm32f103")
            self.link.configure(LineSettings(baud, EVEN.frame))
            with self.subTest(baud):
                self.assertEqual([self.say("7F"), self.say("02 FD")], ["79", "79 01 04 10 79"])

    def test_erasing_takes_its_time(self) -> None:
        for board, code, body, seconds in (
            ("stm32f407", "44 BB", bytes([0, 0, 0, 11]), 1.0),
            ("stm32f103", "43 BC", bytes([1, 0, 1]), 0.04),
        ):
            self.open(board)
            self.say("7F")
            self.say(code)
            began = self.link.now()
            self.link.write(frame(body))
            self.assertEqual(self.link.read(1, 5.0), b"\x79")
            self.assertAlmostEqual(self.link.now() - began, seconds, delta=0.01)


class StrictAvr(unittest.TestCase):
    def setUp(self) -> None:
        line = BOARDS["atmega328p"].build(Faults())
        self.link = VirtualLink(line, LineSettings(115200))
        self.link.set_lines(True, False)
        self.link.sleep(0.02)
        assert isinstance(line.chip, SimulatedAvr)
        self.chip = line.chip

    def say(self, data: str) -> str:
        self.link.write(bytes.fromhex(data))
        return self.link.read(300, 0.1).hex(" ").upper()

    def test_replies(self) -> None:
        for sent, reply in (
            ("30 20", "14 10"),
            ("30 21", "15"),
            ("99 20", "14 12"),
            ("75 20", "14 1E 95 0F 10"),
            ("56 30 00 00 00 20", "14 00 10"),
            ("41 81 20", "14 01 10"),
        ):
            with self.subTest(sent):
                self.assertEqual(self.say(sent), reply)

    def test_a_page_must_be_a_page(self) -> None:
        self.assertEqual(self.say("64 00 01 46 55 20"), "14 11")
        self.assertIn("outside programming mode", self.chip.violations.pop())
        self.say("50 20")
        self.assertEqual(self.say("55 00 00 20 64 00 04 46 01 02 03 04 20"), "14 10 14 11")
        self.assertIn("page of 4 bytes", self.chip.violations[0])

    def test_programming_is_deaf(self) -> None:
        self.say("50 20")
        self.link.write(bytes.fromhex("55 00 00 20 64 00 80 46") + bytes(128) + b"\x20")
        self.link.sleep(0.014)
        self.link.write(b"\x30")
        self.assertEqual(self.link.read(4, 0.1), b"\x14\x10\x14\x10")
        self.assertIn("busy", self.chip.violations[0])


class Circuits(unittest.TestCase):
    def test_the_cross_pair_by_its_usual_sequence(self) -> None:
        at_once = "boot on; reset on; wait 100 ms; reset off; boot off"
        for microfarad, table in (
            *((farad, {"like": "cross-pair"}) for farad in (1.0, 4.7, 10.0)),
            (1.0, {"like": "cross-pair", "enter": at_once}),
        ):
            chip = SimulatedStm32(STM32_KINDS["stm32f072"])
            line = SimulatedLine(chip, CrossPair(microfarad=microfarad))
            link = VirtualLink(line, EVEN)
            hookup = hookup_from_table(table, "low")
            assert hookup.enter is not None
            Driver(link, hookup).run(hookup.enter)
            link.sleep(0.02)
            link.write(b"\x7f")
            heard = link.read(1, 0.2)
            with self.subTest(table, microfarad=microfarad):
                # letting boot go with reset, before its RC has risen, starts the application
                self.assertEqual(heard, b"" if "enter" in table else b"\x79")

    def test_a_capacitor_answers_to_one_edge_only(self) -> None:
        circuit = CapacitorPulse("rts")
        self.assertEqual(len(circuit.moved(1.0, (False, False), (False, True))), 2)
        self.assertEqual(circuit.moved(1.0, (False, True), (False, False)), [])
        self.assertEqual(circuit.moved(1.0, (False, False), (True, False)), [])

    def test_direct_levels(self) -> None:
        change = DtrResetRtsBoot().moved(2.0, (False, True), (True, False))[0]
        self.assertEqual((change.at_s, change.reset_held, change.boot_selected), (2.0, True, True))


class LineAndLink(unittest.TestCase):
    def test_bit_time_parity_and_turnaround(self) -> None:
        for turnaround_s in (0.0, 0.001, 0.016):
            line = BOARDS["atmega328p"].build(Faults(), turnaround_s)
            link = VirtualLink(line, LineSettings(115200))
            link.set_lines(True, False)
            link.sleep(0.02)
            began = link.now()
            link.write(b"\x30\x20")
            self.assertEqual(link.read(2, 1.0), b"\x14\x10")
            self.assertAlmostEqual(link.now() - began, 4 * 10 / 115200 + turnaround_s, places=6)

    def test_a_port_without_lines_and_one_that_goes(self) -> None:
        link = VirtualLink(BOARDS["atmega328p"].build(Faults()), LineSettings(115200), has_lines=False)
        with self.assertRaises(LinesMissing):
            link.set_lines(True, True)
        link = VirtualLink(BOARDS["atmega328p"].build(Faults()), LineSettings(115200), vanishes_at_s=0.5)
        with self.assertRaises(LinkLost):
            link.read(1, 2.0)
            link.read(1, 2.0)

    def test_faults_are_written_and_read(self) -> None:
        faults = Faults.parse(
            ("drop-to-chip=3", "flip-to-host=2:81", "repeat-to-chip=5", "worn=0x08000010", "clock=1.5", "locked")
        )
        self.assertEqual((faults.to_chip(3, 9), faults.to_chip(4, 9), faults.to_chip(5, 9)), ([], [9], [9, 9]))
        self.assertEqual((faults.to_host(2, 0x01), faults.worn, faults.clock), ([0x80], {0x08000010}, 1.5))
        for text in ("honey", "locked=yes", "clock=fast", "drop-to-chip"):
            with self.subTest(text), self.assertRaises(ValueError):
                Faults.parse((text,))
        self.assertEqual(
            {name.replace("-", "_") for name in FAULT_KINDS}, set(Faults.__dataclass_fields__) - {"seed"}
        )

    def test_boards_say_how_they_are_reached(self) -> None:
        for board in BOARDS.values():
            level = "high" if board.chip.startswith("stm32") else ""
            self.assertFalse(named_hookup(board.circuit.hookup, level).by_hand)

    def test_the_check_value_of_the_crc(self) -> None:
        self.assertEqual(crc16(b"123456789"), 0x31C3)

    def test_every_kind_of_a_simulated_chip_stands_on_a_board(self) -> None:
        titles = [board.title for board in BOARDS.values()]
        for module in (stm32, avr, avr_068, avr_109, esp, lpc, pic, xmodem):
            for name, table in vars(module).items():
                for kind in table.values() if name.endswith("KINDS") else ():
                    self.assertIn(kind.title, titles)

    def test_a_board_is_found_by_the_first_lines_of_its_file(self) -> None:
        for name in BOARDS:
            found = [
                module for module in families_naming(name) for b in import_module(module).BOARDS if b.name == name
            ]
            self.assertEqual(len(found), 1, name)

    def test_a_block_taken_in_one_go_is_a_block_taken_by_the_character(self) -> None:
        for board in ("stm32f072", "atmega328p", "atmega2560", "at90usb1286", "esp32", "esp8266", "lpc1769", "lpc845", "pic18f4520",
                      "pic18f46k22", "smoke-fan", "xmodem-sum"):  # fmt: skip
            with self.subTest(board):
                image = {"flash": sample_for(board, 700)}
                quick = run(board, image)
                slow = run(board, image, faults=("drop-to-chip=99999999",))  # which is never reached
                self.assertEqual(quick.end.exit_code, 0)
                self.assertEqual(quick.link.now(), slow.link.now())
                self.assertEqual(quick.line.to_chip_count, slow.line.to_chip_count)
                self.assertEqual(quick.line.chip.flash, slow.line.chip.flash)


if __name__ == "__main__":
    unittest.main()
