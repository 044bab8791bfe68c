"""NuMicro: packets without a start of their own, whose sums and numbers account for every byte."""

from __future__ import annotations

import unittest

from greenstep.bench.trial import run, sample_for
from greenstep.core.dialects.nuvoton_isp import PACKET_BYTES, Command, packet
from greenstep.core.image import Image, Piece

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

    def test_what_begins_within_a_page_is_written_there(self) -> None:
        pieces = (
            Piece(0, sample_for(WITHOUT, 900).pieces[0].data),
            Piece(0x3A0, b"hive" * 9),
            Piece(0x2123, bytes(range(1, 200))),
        )
        trial = run(WITHOUT, {"flash": Image("fan.hex", pieces)})
        self.assertEqual((trial.end.exit_code, trial.line.chip.violations), (0, []), trial.findings)
        self.assertTrue(trial.holds(Image("fan.hex", pieces)))

    def test_a_cell_that_is_not_programmed_shows_where_all_is_summed(self) -> None:
        image = sample_for(WITH_SUM, 900)
        trial = run(WITH_SUM, {"flash": image}, faults=("worn=0x123",))
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (6, "refused-data"))

    def test_its_number_and_configuration_are_shown(self) -> None:
        figures = run(WITH_SUM, purpose="greet").step("chip").figures
        self.assertEqual((figures["device_id"], figures["config"]), ("00100518", "FFFFFFFF FFFFFFFF"))


if __name__ == "__main__":
    unittest.main()
