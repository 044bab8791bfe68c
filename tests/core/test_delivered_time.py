"""A served board when its process was held up: nothing it was sent is lost, and it goes on as if it had listened."""

from __future__ import annotations

import unittest

from greenstep.bench.boards import BOARDS
from greenstep.bench.delivered_time import LATE_S, LONGEST_WAIT_S, DeliveredTime
from greenstep.bench.line import SimulatedLine
from greenstep.bench.person import Hands, Watchful

SYNC, IN_SYNC = b"\x30\x20", b"\x14\x10"


class HeldUp(unittest.TestCase):
    def setUp(self) -> None:
        self.heard = bytearray()

    def served(self, board: str) -> tuple[SimulatedLine, DeliveredTime]:
        """A board that has just been reset, and its time."""
        line = BOARDS[board].build()
        line.power_on(0.0)
        line.configure(0.0, line.settings)
        time = DeliveredTime(line)
        line.set_lines(0.0, True, False)
        return line, time

    def on_time(self, line: SimulatedLine, time: DeliveredTime, seconds: float) -> None:
        """As when the process is never late: it looks whenever it wanted to, and nothing comes."""
        end_s = time.now + seconds
        while time.now < end_s:
            time.look(min(time.wait_s(), end_s - time.now) + 1e-6, False)
            self.heard += line.take(time.now, 100)

    def answer(self, line: SimulatedLine, time: DeliveredTime) -> bytes:
        self.on_time(line, time, 0.01)
        return bytes(self.heard)

    def test_a_patience_that_nobody_held_up_ends_by_the_clock(self) -> None:
        line, time = self.served("atmega328p")
        self.on_time(line, time, 1.2)  # it listens for a second
        line.write(time.now, SYNC)
        self.assertNotIn(IN_SYNC, self.answer(line, time))

    def test_a_loader_waits_for_a_process_that_was_away(self) -> None:
        line, time = self.served("atmega328p")
        self.on_time(line, time, 0.1)
        time.look(30.0, False)
        self.assertLess(time.now, 0.1 + LONGEST_WAIT_S + LATE_S + 0.001)
        line.write(time.now, SYNC)
        self.assertEqual(self.answer(line, time), IN_SYNC)

    def test_what_waits_to_be_read_came_before_the_patience_ended(self) -> None:
        line, time = self.served("atmega328p")
        self.on_time(line, time, 0.99)
        for _ in range(20):  # each time a little late, as on a busy machine
            time.look(0.015, True)
            line.write(time.now, SYNC)
        self.assertEqual(self.answer(line, time), IN_SYNC * 20)
        self.assertFalse(line.chip.violations)

    def test_half_a_message_and_the_rest_much_later(self) -> None:
        line, time = self.served("atmega328p")
        self.on_time(line, time, 0.05)
        line.write(time.now, SYNC[:1])
        time.look(5.0, True)
        line.write(time.now, SYNC[1:])
        self.assertEqual(self.answer(line, time), IN_SYNC)

    def test_what_the_chip_is_busy_with_ends_by_the_clock(self) -> None:
        line, time = self.served("atmega1284p")  # flashes its LED for 0.28 s first, and hears nothing meanwhile
        time.look(0.3, True)
        line.write(time.now, SYNC)
        self.assertIn(IN_SYNC, self.answer(line, time))
        self.assertFalse(line.chip.violations)

    def test_a_reset_held_as_long_as_the_clock_says(self) -> None:
        line, time = self.served("esp32")
        line.set_lines(time.now, False, True)  # reset held
        time.look(0.1, True)
        line.set_lines(time.now, True, False)  # boot selected, and reset let go: it rises for 13.9 ms
        time.look(0.05, True)
        self.assertTrue(line.boot_selected)
        self.assertAlmostEqual(time.now, 0.15)
        self.assertFalse(line.chip.in_reset)

    def test_a_person_does_not_count_the_time_in_which_nobody_could_ask(self) -> None:
        person, line = Watchful(Hands(0.5), 6.0, 0.07), BOARDS["stm32f072"].build()
        line.power_on(0.0)
        for at_s in (1.0, 9.0):  # held up before and after the tool's first byte
            line.advance(at_s)
            person.looks(line, at_s)
        person.wrote(line, 9.1)
        line.advance(30.0)
        person.looks(line, 30.0)
        self.assertTrue(line.boot_selected and not person.left)

    def test_a_person_who_was_there_before_the_tool_still_sets_the_pin_back(self) -> None:
        person, line = Watchful(Hands(0.5), 6.0, 0.07), BOARDS["stm32f072"].build()
        line.power_on(0.0)
        for tick in range(1, 1000):
            at_s = tick * 0.05
            line.take(at_s, 1000)
            if tick == 300:
                self.assertTrue(person.left)
                person.wrote(line, at_s)
            person.looks(line, at_s)
            if tick == 340:
                self.assertTrue(line.boot_selected)
        self.assertFalse(line.boot_selected)


if __name__ == "__main__":
    unittest.main()
