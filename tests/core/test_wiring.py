"""Which pin goes to which, for every part and hookup there is."""

from __future__ import annotations

import unittest

from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.chips.part import ByHandWords
from greenstep.core.hookup.circuits import NAMED, hookup_from_table, named_hookup
from greenstep.core.hookup.wiring import Bridge, Wiring, wiring_of

CATALOGUE = Catalogue.load()


def wired(chip: str, hookup: str, straight: bool = False) -> Wiring:
    part = CATALOGUE.find(chip).first
    return wiring_of(part, named_hookup(hookup, part.boot_level), Bridge() if straight else None)


class EveryPart(unittest.TestCase):
    def test_ground_and_both_data_lines_are_always_there(self) -> None:
        for part in CATALOGUE.parts:
            for name in NAMED:
                with self.subTest(part=part.name, hookup=name):
                    wiring = wiring_of(part, named_hookup(name, part.boot_level))
                    adapter = [wire.adapter for wire in wiring.wires]
                    self.assertEqual(adapter[:3], ["USB"] if name == "usb-hangup" else ["GND", "TX", "RX"])
                    self.assertEqual(len(set(adapter)), len(adapter))
                    self.assertIn(wiring.wires[-1].adapter, ("USB",) if name == "usb-hangup" else ("3V3", "5V"))
                    self.assertIn("no program can see volts", wiring.advice[-1][1])

    def test_supplies_are_within_what_the_part_stands(self) -> None:
        for part in CATALOGUE.parts:
            with self.subTest(part.name):
                low, high = part.wires.volts_range
                self.assertTrue(low <= part.wires.volts <= high)
                self.assertEqual(bool(part.wires.boot), bool(part.boot_level))
                self.assertGreater(part.wires.shortest_reset_s, 0)


class Circuits(unittest.TestCase):
    def through(self, wiring: Wiring) -> dict[str, tuple[str, str]]:
        return {wire.adapter: (wire.chip, wire.through) for wire in wiring.wires}

    def test_what_lies_in_each_line(self) -> None:
        self.assertEqual(self.through(wired("atmega328p", "cap-rts"))["RTS"], ("RESET", "100 nF"))
        crossed = self.through(wired("esp32", "cross-pair"))
        self.assertEqual((crossed["RTS"], crossed["DTR"]), (("EN", "transistor"), ("GPIO0", "transistor")))
        self.assertEqual(self.through(wired("stm32f103c8", "dtr-reset-only"))["DTR"], ("NRST", ""))
        part = CATALOGUE.find("stm32f103c8").first
        turned = hookup_from_table({"reset": {"line": "rts", "held": "released"}}, "high")
        self.assertEqual(self.through(wiring_of(part, turned))["RTS"], ("NRST", "inverter"))

    def test_a_jumper_only_where_no_line_moves_the_boot_pin(self) -> None:
        for hookup, jumper in (("by-hand", True), ("rts-reset-only", True), ("dtr-reset-rts-boot", False)):
            with self.subTest(hookup):
                wiring = wired("stm32f072", hookup)
                self.assertEqual((wiring.jumper, wiring.boot_load, wiring.boot_run), (jumper, "high", "low"))
                self.assertEqual(any(heading == "to load" for heading, _ in wiring.advice), jumper)
        self.assertFalse(wired("atmega328p", "by-hand").jumper)

    def test_straight_turns_the_data_lines_and_warns(self) -> None:
        plain, straight = wired("stm32f072", "by-hand"), wired("stm32f072", "by-hand", straight=True)
        self.assertEqual([w.chip for w in plain.wires], [w.chip for w in straight.wires])
        self.assertEqual([w.adapter for w in straight.wires][1:3], ["RX", "TX"])
        self.assertTrue(any(heading == "borrowed" for heading, _ in straight.advice))

    def test_how_the_lender_is_kept_quiet(self) -> None:
        part = CATALOGUE.find("stm32f072").first
        for chip, hookup, quiet, shared in (
            ("esp8266", "dtr-reset-only", "chip-enable", False), ("esp32", "dtr-reset-only", "EN to ground", True),
            ("atmega328p", "by-hand", "RESET to ground", False), ("atmega328p", "cap-dtr", "RESET to ground", True),
        ):  # fmt: skip
            lender = CATALOGUE.find(chip).first
            advice = dict(wiring_of(part, named_hookup(hookup, "high"), Bridge(lender)).advice)
            self.assertIn(quiet, advice["keep quiet"])
            self.assertEqual("cannot reset yours" in advice.get("reset", ""), shared, chip)

    def test_a_board_for_less_than_the_usual_supply(self) -> None:
        part = CATALOGUE.find("atmega328p").first
        hookup = named_hookup("cap-dtr", "")
        wiring = wiring_of(part, hookup, volts=3.3)
        self.assertEqual((wiring.wires[-1].adapter, wiring_of(part, hookup).wires[-1].adapter), ("3V3", "5V"))
        advice = dict(wiring.advice)
        self.assertTrue("3.3 V" in advice["levels"] and "57600" in advice["clock"] and "DTR" in advice["header"])
        with self.assertRaises(ValueError):
            wiring_of(CATALOGUE.find("esp32").first, hookup, volts=5.0)

    def test_a_board_with_moves_of_its_own(self) -> None:
        part = CATALOGUE.find("stm32f072").first
        advice = wiring_of(
            part, named_hookup("by-hand", "high"), hands=ByHandWords(("short JP1",), ("open JP1",))
        ).advice
        self.assertIn(("to load", "1. short JP1"), advice)
        self.assertIn(("to run", "1. open JP1"), advice)


if __name__ == "__main__":
    unittest.main()
