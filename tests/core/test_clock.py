"""Baud rates from clocks, against the tables of the data sheets."""

from __future__ import annotations

import unittest

from greenstep.core.clock.uarts import RateMade, highest_safe, judge, rates_if_wrong, uart_rules
from greenstep.core.errors import UsageFault
from greenstep.core.link import Frame
from greenstep.core.quantities import parse_engineering, show_engineering

EIGHT_N, EIGHT_E = Frame(), Frame(8, "even", 1)


def at(family: str, clock_hz: float, baud: int, frame: Frame = EIGHT_N, adapter: float = 0.0) -> RateMade:
    return judge(uart_rules(family), clock_hz, frame, (baud,), adapter)[0]


class Avr(unittest.TestCase):
    def test_the_data_sheets_examples(self) -> None:
        # ATmega328P data sheet, "Examples of Baud Rate Setting": (clock, baud, U2X, UBRR, error in %)
        table = (
            (16e6, 115200, "double speed", 16, 2.1),
            (16e6, 9600, "normal", 103, 0.2),
            (8e6, 38400, "normal", 12, 0.2),
            (1e6, 9600, "double speed", 12, 0.2),
            (18.432e6, 115200, "normal", 9, 0.0),
        )
        for clock, baud, mode, register, error in table:
            with self.subTest(clock=clock, baud=baud):
                made = at("avr", clock, baud)
                assert made.mode is not None and made.divided is not None
                self.assertEqual((made.mode.name, made.divided.register), (mode, f"UBRR {register}"))
                self.assertAlmostEqual(made.error * 100, error, delta=0.06)

    def test_receiver_tolerances_of_the_data_sheet(self) -> None:
        # "Recommended Maximum Receiver Baud Rate Error": 8 bits +3.90/-4.00 % at double speed, 4.54 at normal
        self.assertAlmostEqual(at("avr", 16e6, 115200).tolerates * 100, 3.9, delta=0.05)
        self.assertAlmostEqual(at("avr", 16e6, 9600).tolerates * 100, 4.58, delta=0.07)
        self.assertLess(at("avr", 16e6, 9600, EIGHT_E).tolerates, at("avr", 16e6, 9600).tolerates)

    def test_verdicts(self) -> None:
        self.assertEqual(at("avr", 16e6, 57600).verdict, "safe")
        self.assertEqual(at("avr", 16e6, 115200).verdict, "edge")
        self.assertEqual(at("avr", 8e6, 115200).verdict, "edge")
        self.assertEqual(at("avr", 16e6, 460800).verdict, "no")
        self.assertEqual(at("avr", 1e6, 2000000).divided, None)
        # an adapter that is as far off the same way makes it safe; one that is off the other way does not
        self.assertEqual(at("avr", 16e6, 115200, adapter=0.02).verdict, "safe")
        self.assertEqual(at("avr", 16e6, 230400, adapter=0.01).verdict, "no")


class Stm32(unittest.TestCase):
    def test_dividers_of_both_oversamplings(self) -> None:
        # RM0090, "Error calculation for programmed baud rates": 8 MHz, 115.2 kbaud, divider 69 (4.3125 x 16), 0.64 %
        made = at("stm32", 8e6, 115200, EIGHT_E)
        assert made.divided is not None
        self.assertEqual(made.divided.register, "divider 69")
        self.assertAlmostEqual(made.error * 100, 0.64, delta=0.01)
        fast = at("stm32", 8e6, 1000000)
        assert fast.mode is not None
        self.assertEqual(fast.mode.name, "oversampling 8")
        self.assertIsNone(at("stm32", 8e6, 2000000).divided)

    def test_tolerances_by_frame_and_fraction(self) -> None:
        self.assertEqual(at("stm32", 16e6, 62500).tolerates, 0.0375)
        self.assertEqual(at("stm32", 16e6, 62500, EIGHT_E).tolerates, 0.0341)
        self.assertEqual(at("stm32", 8e6, 115200, EIGHT_E).tolerates, 0.0303)


class Summary(unittest.TestCase):
    def test_the_highest_safe_rate_and_none(self) -> None:
        best = highest_safe(judge(uart_rules("avr"), 8e6, EIGHT_N, (9600, 38400, 115200)))
        assert best is not None
        self.assertEqual(best.baud, 38400)
        self.assertIsNone(highest_safe(judge(uart_rules("avr"), 16e6, EIGHT_N, (460800,))))

    def test_what_a_clock_set_wrong_is_heard_as(self) -> None:
        self.assertEqual(
            [(factor, round(baud)) for factor, baud in rates_if_wrong(at("stm32", 72e6, 115200))],
            [(0.25, 28800), (0.5, 57600), (2.0, 230400), (4.0, 460800)],
        )

    def test_an_unknown_divider(self) -> None:
        with self.assertRaises(UsageFault):
            uart_rules("teapot")


class Values(unittest.TestCase):
    def test_reading(self) -> None:
        cases = {("16M", "Hz"): 16e6, ("11.0592 MHz", "Hz"): 11.0592e6, ("4k7", "ohm"): 4700.0, ("100n", "F"): 1e-7,
                 ("1 uF", "F"): 1e-6, ("3.3", "V"): 3.3, ("10K", "ohm"): 10e3, ("32768", "Hz"): 32768.0}  # fmt: skip
        for (text, unit), value in cases.items():
            with self.subTest(text):
                self.assertAlmostEqual(parse_engineering(text, unit) / value, 1.0)
        for text in ("", "x", "4.7k3", "16 Q", "-3"):
            with self.subTest(text), self.assertRaises(ValueError):
                parse_engineering(text, "Hz")

    def test_showing(self) -> None:
        self.assertEqual(
            [show_engineering(v, "Hz") for v in (16e6, 11059200, 32768)], ["16 MHz", "11.0592 MHz", "32.768 kHz"]
        )


if __name__ == "__main__":
    unittest.main()
