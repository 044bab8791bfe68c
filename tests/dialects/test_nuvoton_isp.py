"""NuMicro: packets without a start of their own, whose sums and numbers account for every byte."""

from __future__ import annotations

import unittest
from typing import Any

from greenstep.bench.trial import Trial, prepare, run, sample_for
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.nuvoton_isp import PACKET_BYTES, Command, packet
from greenstep.core.events import Noted
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import Keep, WriteOptions

WITH_SUM, WITHOUT = "m0518", "m480"


class Nuvoton(unittest.TestCase):
    def test_a_packet_as_the_notes_have_it(self) -> None:
        sent = packet(Command.CONNECT, 1)
        self.assertEqual((len(sent), sent[:9].hex()), (PACKET_BYTES, "ae0000000100000000"))

    def test_a_lost_or_doubled_byte_anywhere_in_a_packet_is_made_good(self) -> None:
        image = sample_for(WITHOUT, 900)
        count = run(WITHOUT, {"flash": image}).line.to_chip_count
        for place in range(count - 64 * 6, count - 64, 11):
            for kind in ("drop", "repeat"):
                trial = run(WITHOUT, {"flash": image}, faults=(f"{kind}-to-chip={place}",))
                with self.subTest(kind=kind, place=place):
                    self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), trial.findings)

    def test_what_this_loader_does_is_told_in_the_run(self) -> None:
        for board, told in ((WITH_SUM, True), (WITHOUT, False)):
            trial = run(board, {"flash": sample_for(board, 900)})
            texts = [event.text for event in trial.events if isinstance(event, Noted)]
            self.assertEqual(texts.count("this bootloader sums what it wrote"), told)
            self.assertEqual(trial.end.green, told)

    def test_one_run_from_the_start_with_its_gaps_blank(self) -> None:
        first = sample_for(WITH_SUM, 900).pieces[0]
        pieces = (first, Piece(0x3A0, b"hive" * 9), Piece(0x2123, bytes(range(1, 200))))
        for change in ((), ("worn=0x500",)):  # in a gap, which is written and summed too
            trial = run(WITH_SUM, {"flash": Image("fan.hex", pieces)}, faults=change, start=False)
            self.assertEqual((trial.end.green, trial.line.chip.violations), (not change, []), trial.findings)
            self.assertEqual(trial.holds(Image("fan.hex", pieces)), True)

    def test_what_begins_elsewhere_would_erase_what_is_before_it(self) -> None:
        image = Image("fan.bin", (Piece(0x1000, bytes(range(200))),))
        before = prepare(WITH_SUM)[1].line.chip.flash  # type: ignore[attr-defined]
        trial = run(WITH_SUM, {"flash": image})
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "takes-along"))
        self.assertEqual(trial.line.chip.flash, before)  # type: ignore[attr-defined]
        told = run(WITH_SUM, {"flash": image}, options=WriteOptions(even_if=frozenset({"vectors"})), start=False)
        self.assertEqual((told.end.green, told.holds(image)), (True, True), told.findings)

    def test_nothing_can_be_kept_or_restored_in_part(self) -> None:
        image = sample_for(WITH_SUM, 900)
        trial = run(WITH_SUM, {"flash": image}, options=WriteOptions(keep=(Keep(0x8000, 64),)))
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "keeps"))
        trial = run(WITH_SUM, {"flash": image}, options=WriteOptions(as_it_was=True))
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "not-whole-units"))

    def silicon(self, image: Image, board: str = WITH_SUM, **chip: Any) -> Trial:
        runner, trial = prepare(board, {"flash": image}, start=False)
        for name, value in chip.items():
            setattr(trial.line.chip, name, value)
        trial.events.extend(runner.run())
        return trial

    def test_every_kind_of_loader(self) -> None:
        image = sample_for(WITH_SUM, 900)
        for config_everywhere in (True, False):
            for tells_size in (True, False):
                trial = self.silicon(image, config_everywhere=config_everywhere, tells_size=tells_size)
                self.assertEqual((trial.end.green, trial.line.chip.violations), (True, []), trial.findings)
                trial = self.silicon(sample_for(WITHOUT, 900), WITHOUT, config_everywhere=config_everywhere)
                self.assertEqual((trial.end.exit_code, trial.step("verify").outcome), (0, "unproven"), trial.findings)

    def test_the_flash_ends_where_data_flash_begins(self) -> None:
        config = b"\xfe\xff\xff\xff" + (0x8000).to_bytes(4, "little")
        large = sample_for(WITH_SUM, 0x8100)
        self.assertEqual(self.silicon(large, config=config).findings[0].key, "does-not-fit")
        trial = self.silicon(sample_for(WITH_SUM, 900), config=config)
        self.assertEqual((trial.end.green, trial.step("chip").figures["flash_bytes"]), (True, 0x8000))

    def test_another_chip_than_the_declared_one(self) -> None:
        image = sample_for(WITH_SUM, 900)
        told = WriteOptions(even_if=frozenset({"vectors"}))  # its RAM is smaller, too
        smaller = run(WITH_SUM, {"flash": image}, choice=Catalogue.load().find("m054"), options=told)
        self.assertEqual((smaller.end.exit_code, smaller.findings[0].key), (5, "other-chip"))
        for device, status in (("00100518", 0), ("100519", 5)):
            trial = run(WITH_SUM, {"flash": image}, options=WriteOptions(settings={"device": device}))
            self.assertEqual(trial.end.exit_code, status, trial.findings)

    def test_a_cell_that_is_not_programmed_shows_where_all_is_summed(self) -> None:
        image = sample_for(WITH_SUM, 900)
        trial = run(WITH_SUM, {"flash": image}, faults=("worn=0x123",))
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (6, "refused-data"))

    def test_its_number_and_configuration_are_shown(self) -> None:
        figures = run(WITH_SUM, purpose="greet").step("chip").figures
        self.assertEqual((figures["device_id"], figures["config"]), ("00100518", "FFFFFFFF FFFFFFFF"))


if __name__ == "__main__":
    unittest.main()
