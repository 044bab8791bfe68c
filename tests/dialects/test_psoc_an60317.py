"""`psoc-an60317`: rows of a file of its own, and packets."""

from __future__ import annotations

import io
import unittest
from dataclasses import replace
from typing import Any

from greenstep.bench.trial import run, sample_for
from greenstep.core.dialects.psoc_an60317 import Command, crc_of, packet, row_sums
from greenstep.core.image import ImageFault
from greenstep.core.image.file_formats import recognise
from greenstep.core.image.psoc_rows import read_psoc_rows
from greenstep.core.plan.write_options import WriteOptions

FOUR, FIVE, RADIO = "cy8c4245", "cy8c5888", "nrf52832"


def rows(*lines: str) -> Any:
    return read_psoc_rows(io.BytesIO("\r\n".join(lines).encode()), "fan.cyacd")


def line(array: int, row: int, data: bytes) -> str:
    body = bytes([array]) + row.to_bytes(2, "big") + len(data).to_bytes(2, "big") + data
    return f":{(body + bytes([-sum(body) & 0xFF])).hex().upper()}"


class PsocRows(unittest.TestCase):
    def test_rows_and_where_they_are_laid(self) -> None:
        image = rows(
            "04C811931100", line(0, 40, b"\x11" * 128), line(0, 41, b"\x22" * 128), line(0, 255, b"\x33" * 128)
        )
        self.assertEqual([(piece.address, len(piece.data)) for piece in image.pieces], [(5120, 256), (32640, 128)])
        self.assertEqual((image.header, image.format), ("04C81193 11 00", "PSoC rows"))
        five = rows("2E16A0690001", line(1, 2, bytes(256)))
        self.assertEqual(five.lowest, (256 + 2) * 288)
        self.assertEqual(recognise(b"04C811931100\r\n:000028008000"), "PSoC rows")
        self.assertEqual(recognise(b":10000000"), "Intel HEX")

    def test_damage_is_named_by_its_line(self) -> None:
        good = line(0, 40, bytes(128))
        for lines, number, said in (
            ((good,), 1, "12 hex digits"),
            (("04C811931100", good[:-2] + "FF"), 2, "checksum"),
            (("04C811931100", good, good[:41]), 3, "bytes"),
            (("04C811931100", good, line(0, 41, bytes(64))), 3, "as the others have"),
            (("04C811931100", good, line(0, 40, b"\x01" * 128)), 3, "line 2 again"),
            (("04C811931100", line(0, 1, bytes(100))), 2, "rows of 64"),
            (("04C811931100",), None, "no row"),
        ):
            with self.subTest(said), self.assertRaises(ImageFault) as caught:
                rows(*lines)
            self.assertEqual(caught.exception.line, number)
            self.assertIn(said, f"{caught.exception.found} {caught.exception.expected}")


class Psoc(unittest.TestCase):
    def test_packets_with_a_sum_and_with_a_crc(self) -> None:
        self.assertEqual(packet(Command.ENTER), bytes.fromhex("01 38 00 00 C7 FF 17"))
        self.assertEqual(crc_of(b"123456789"), 0x6E90)
        self.assertEqual(len(set(row_sums(1, 0x102, b"\x01\x02"))), 4)

    def test_a_row_is_sent_anew_whatever_is_lost_of_it(self) -> None:
        for board in (FOUR, FIVE):
            image = sample_for(board, 700)
            count = run(board, {"flash": image}).line.to_chip_count
            for place in range(count - 360, count - 20, 17):
                trial = run(board, {"flash": image}, faults=(f"drop-to-chip={place}",))
                self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), (board, place))

    def test_a_larger_packet_is_used_where_it_is_said(self) -> None:
        image = sample_for(FOUR, 700)
        trial = run(FOUR, {"flash": image}, options=WriteOptions(settings={"packet": 200}))
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (6, "refused-data"))
        self.assertIn("03, length", trial.findings[0].evidence[0])

    def test_the_loader_has_the_last_word(self) -> None:
        image = sample_for(FOUR, 700)
        wrong = replace(
            image, pieces=(image.pieces[0], replace(image.pieces[1], data=b"\x55" + image.pieces[1].data[1:]))
        )
        trial = run(FOUR, {"flash": wrong})
        self.assertEqual(trial.end.exit_code, 6)
        self.assertIn("checksum of the application", trial.findings[0].evidence[0])


if __name__ == "__main__":
    unittest.main()
