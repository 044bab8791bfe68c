"""Pins in volts: RC rise, capacitor pulse, the moment the boot pin is read, and what is warned of."""

from __future__ import annotations

import math
import unittest

from greenstep.core.hookup.circuits import Hookup, named_hookup
from greenstep.core.hookup.sequence import parse_sequence
from greenstep.core.hookup.waveform import Electrics, Waveform, draw_waveform, warnings
from greenstep.core.hookup.waveform_text import text_lanes


def drawn(hookup: Hookup, sequence: str, electrics: Electrics, level: str) -> Waveform:
    return draw_waveform(hookup, parse_sequence(sequence), electrics, level)


class Voltages(unittest.TestCase):
    def test_a_cross_pair_rises_through_its_rc(self) -> None:
        hookup = named_hookup("cross-pair", "low")
        wave = drawn(hookup, "reset on; wait 100 ms; reset off; wait 100 ms", Electrics(3.3, 10e3, 1e-6), "low")
        reset = wave.lane("reset")
        assert reset is not None
        let_go = wave.moves[-1].at_s
        self.assertAlmostEqual(reset.at(let_go - 1e-4), 0.0)
        self.assertAlmostEqual(reset.at(let_go + 0.01), 3.3 * (1 - math.exp(-1)), places=6)
        sampled = wave.pulses[0].sampled_s
        assert sampled is not None
        self.assertAlmostEqual(sampled - let_go, 0.01 * math.log(4), places=9)

    def test_a_capacitor_passes_an_edge_and_lets_the_pin_rise(self) -> None:
        hookup = named_hookup("cap-dtr", "")
        wave = drawn(hookup, "reset on; wait 50 ms; reset off", Electrics(5.0, 10e3, 0.0, 100e-9), "")
        reset, pulse = wave.lane("reset"), wave.pulses[0]
        assert reset is not None and pulse.end_s is not None
        self.assertEqual(len(wave.pulses), 1)
        edge = wave.moves[0].at_s
        self.assertAlmostEqual(reset.at(edge), 0.0)
        self.assertAlmostEqual(reset.at(edge + 0.001), 5 * (1 - math.exp(-1)), places=6)
        self.assertAlmostEqual((pulse.end_s - pulse.start_s) / 0.001, math.log(4 / 3), places=6)
        self.assertAlmostEqual(reset.at(wave.moves[1].at_s), 5.6)  # the other edge, held by the diode

    def test_a_wire_follows_at_once_and_the_boot_pin_stands_where_it_selects(self) -> None:
        hookup = named_hookup("dtr-reset-rts-boot", "high")
        wave = drawn(hookup, "boot on; reset on; wait 50 ms; reset off; wait 5 ms; boot off", Electrics(), "high")
        boot, pulse = wave.lane("boot"), wave.pulses[0]
        assert boot is not None and pulse.sampled_s is not None and pulse.end_s is not None
        self.assertAlmostEqual(pulse.end_s - pulse.start_s, 0.05)
        self.assertEqual((boot.at(pulse.sampled_s), pulse.boot_selected), (3.3, True))
        self.assertEqual(boot.at(wave.end_s), 0.0)


class Warnings(unittest.TestCase):
    def warned(self, name: str, level: str, sequence: str, electrics: Electrics | None = None, **more: object) -> str:
        hookup = named_hookup(name, level)
        found = warnings(
            hookup, parse_sequence(sequence), electrics or Electrics.usual(hookup, 3.3), level,
            bool(more.get("entering", True)), float(more.get("shortest", 0.0)),  # type: ignore[arg-type]
        )  # fmt: skip
        return " | ".join(found)

    def test_the_usual_sequences_of_every_hookup_are_not_warned_of(self) -> None:
        for name, level in (
            ("cap-dtr", ""), ("cap-rts", ""), ("dtr-reset-only", ""), ("rts-reset-only", ""),
            ("cross-pair", "low"), ("dtr-reset-rts-boot", "high"), ("rts-reset-dtr-boot", "low"),
        ):  # fmt: skip
            hookup = named_hookup(name, level)
            assert hookup.enter is not None and hookup.leave is not None
            for sequence, entering in ((hookup.enter, True), (hookup.leave, False)):
                with self.subTest(name, entering=entering):
                    electrics = Electrics.usual(hookup, 3.3)
                    self.assertEqual(warnings(hookup, sequence, electrics, level, entering, 20e-6), ())

    def test_each_fault_is_named(self) -> None:
        direct = "dtr-reset-rts-boot"
        cases = (
            (
                direct,
                "high",
                "boot on; reset on; wait 50 ms; boot off; wait 3 ms; reset off",
                "3 ms before reset has risen: too early",
            ),
            (
                direct,
                "high",
                "reset on; wait 50 ms; reset off; wait 2 ms; boot on; wait 20 ms; boot off",
                "2 ms after reset has risen: too late",
            ),
            (direct, "high", "boot on; reset on; wait 50 ms; reset off; wait 1 ms; boot off", "only 1 ms after"),
            (direct, "high", "reset on; wait 50 ms; reset off", "never selects"),
            (direct, "high", "boot on; reset on; wait 50 ms", "still low at the end"),
            (direct, "high", "boot on; wait 50 ms; boot off", "resets nothing"),
        )
        for name, level, sequence, said in cases:
            with self.subTest(said):
                self.assertIn(said, self.warned(name, level, sequence))

    def test_a_pulse_too_short_and_a_boot_pin_left_set(self) -> None:
        self.assertIn("low for 288 us", self.warned("cap-dtr", "", "reset on; wait 9 ms", shortest=0.001))
        self.assertIn(
            "still selects",
            self.warned("dtr-reset-rts-boot", "high", "boot on; reset on; wait 9 ms; reset off", entering=False),
        )

    def test_a_slow_reset_and_the_state_between_two_calls(self) -> None:
        usual = "boot on; reset on; wait 100 ms; reset off; wait 50 ms; boot off"
        slow = Electrics(3.3, 10e3, 10e-6)
        self.assertIn("too early", self.warned("cross-pair", "low", usual, slow))
        for farad in (1e-6, 4.7e-6, 10e-6):
            self.assertEqual(
                self.warned(
                    "cross-pair", "low", str(named_hookup("cross-pair", "low").enter), Electrics(3.3, 10e3, farad)
                ),
                "",
            )
        bare = Electrics(3.3, 10e3, 0.0)
        self.assertIn("state in between matters", self.warned("cross-pair", "low", usual, bare))
        self.assertEqual(self.warned("cross-pair", "low", usual), "")


class Text(unittest.TestCase):
    def test_lanes_are_as_wide_as_each_other_and_mark_the_moment(self) -> None:
        hookup = named_hookup("cross-pair", "low")
        assert hookup.enter is not None
        wave = draw_waveform(hookup, hookup.enter, Electrics.usual(hookup, 3.3), "low")
        lanes = text_lanes(wave, 80, plain=True)
        self.assertEqual({len(bars) for _, bars in lanes.lanes}, {lanes.edges[-1][1]})
        reset = dict(lanes.lanes)["reset"]
        sampled = wave.pulses[0].sampled_s
        assert sampled is not None
        self.assertEqual(reset[0], "^")
        self.assertIn("_", reset)
        self.assertIn(reset[lanes.column(sampled)], "-^")


if __name__ == "__main__":
    unittest.main()
