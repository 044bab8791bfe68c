"""Renesas RA: packets, what would lock the part, an id code, and a packet that must not be programmed twice."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

from greenstep.bench.trial import prepare, run, sample_for
from greenstep.core.dialects.ra_packets import Command, packet
from greenstep.core.image import Piece
from greenstep.core.plan.write_options import WriteOptions

from ..sample import some

BOARD, WITH_ID = "ra4m1", "ra6m3"


class Ra(unittest.TestCase):
    def test_an_inquiry_as_the_note_has_it(self) -> None:
        self.assertEqual(packet(0x01, Command.INQUIRY), bytes.fromhex("01 00 01 00 FF 03"))

    def test_option_setting_memory_is_left_out_and_told(self) -> None:
        image = sample_for(BOARD, 3000)
        longer = replace(image, pieces=(*image.pieces, Piece(0x01010018, b"\x00" * 16)))
        trial = run(BOARD, {"flash": longer})
        self.assertEqual((trial.end.exit_code, trial.end.green), (0, True), trial.findings)
        self.assertIn("of option-setting memory, which can lock the part for good", str(trial.events))
        alone = run(BOARD, {"flash": replace(image, pieces=longer.pieces[1:])})
        self.assertEqual(alone.end.exit_code, 5)

    def test_security_settings_are_written_when_meant_twice(self) -> None:
        image = sample_for(BOARD, 3000)
        data = image.pieces[0].data
        secured = replace(image, pieces=(Piece(0, data[:0x410] + b"\x00" * 8 + data[0x418:]),))
        for words, status in (((), 5), (("protection",), 5), (("protection", "lock-out"), 0)):
            trial = run(BOARD, {"flash": secured}, options=WriteOptions(even_if=frozenset(words)))
            self.assertEqual(trial.end.exit_code, status, trial.findings)

    def test_the_crc_in_another_form_or_none_that_is_known(self) -> None:
        for changes, said in (({"inverted": False}, "own checksum"), ({"inverted": True}, "own checksum")):
            runner, trial = prepare(BOARD, {"flash": sample_for(BOARD, 3000)})
            trial.line.chip.kind = replace(trial.line.chip.kind, **changes)  # type: ignore[attr-defined]
            trial.events.extend(runner.run())
            self.assertEqual(trial.end.exit_code, 0, trial.findings)
            self.assertIn(said, trial.step("verify").evidence)

    def test_an_id_code_that_is_none_is_refused_before_it_is_sent(self) -> None:
        trial = run(WITH_ID, purpose="greet", options=WriteOptions(settings={"id": "12 34"}))
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "setting"))

    def test_a_lost_answer_to_a_packet_does_not_have_it_programmed_again(self) -> None:
        image = sample_for(BOARD, 6000)
        count = run(BOARD, {"flash": image}).line.to_host_count
        for place in range(count - 120, count - 20, 3):
            trial = run(BOARD, {"flash": image}, faults=(f"drop-to-host={place}",))
            self.assertEqual((trial.end.exit_code, trial.line.chip.violations), (0, []), place)
            self.assertTrue(trial.holds(image))


class DataFlash(unittest.TestCase):
    def test_it_is_written_and_proven(self) -> None:
        image = sample_for("ra4m1", 3000)
        pieces = (*image.pieces, Piece(0x40100010, bytes(range(1, 100))))
        for kind, sums in some(((1, False), (0x10, True), (0x10, False), (1, True)), 1):
            runner, trial = prepare("ra4m1", {"flash": replace(image, pieces=pieces)})
            chip: Any = trial.line.chip
            chip.data_kind, chip.sums_data = kind, sums
            chip.data[0x40:0x48] = b"old data"
            trial.events.extend(runner.run())
            self.assertEqual((trial.end.exit_code, trial.end.green, chip.violations), (0, True, []), trial.findings)
            self.assertEqual(bytes(chip.data[0x10 : 0x10 + 99]), pieces[-1].data)
            self.assertIn("data flash: 40100010", str(trial.events))

    def test_only_option_setting_memory_is_left_out(self) -> None:
        image = sample_for("ra4m1", 3000)
        for place, status in ((0x01010010, 0), (0x02000000, 5), (0x40200000, 5)):
            trial = run("ra4m1", {"flash": replace(image, pieces=(*image.pieces, Piece(place, bytes(16))))})
            self.assertEqual(trial.end.exit_code, status, hex(place))
            if not status:
                self.assertIn("left out: 01010010-0101001F, 16 bytes of option-setting memory", str(trial.events))


if __name__ == "__main__":
    unittest.main()
