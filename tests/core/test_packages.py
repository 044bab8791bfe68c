"""Loaders that take files of their own: PSoC rows, and packages for nRF5 boards."""

from __future__ import annotations

import io
import json
import unittest
import zipfile
from dataclasses import replace
from typing import Any

from greenstep.bench.trial import prepare, run, sample_for
from greenstep.core.dialects.nrf5_dfu import Command as DfuCommand
from greenstep.core.dialects.nrf5_dfu import Nrf5Dfu as Dfu
from greenstep.core.dialects.psoc_an60317 import Command, crc_of, packet, row_sums
from greenstep.core.image import ImageFault
from greenstep.core.image.dfu_package import read_dfu_package
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


def package(**members: bytes) -> bytes:
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w") as file:
        for name, data in members.items():
            file.writestr(name.replace("_", "."), data)
    return held.getvalue()


MANIFEST = json.dumps({"manifest": {"application": {"bin_file": "probe.bin", "dat_file": "probe.dat"}}}).encode()


class Packages(unittest.TestCase):
    def test_the_application_and_what_goes_before_it(self) -> None:
        image = read_dfu_package(
            package(manifest_json=MANIFEST, probe_bin=b"\x01\x02", probe_dat=b"\x12"), "probe.zip"
        )
        assert image is not None
        self.assertEqual((image.pieces[0].data, image.header, image.format), (b"\x01\x02", "12", "DFU package"))
        self.assertIsNone(read_dfu_package(package(readme_txt=b"bees"), "bees.zip"))

    def test_what_is_no_such_package(self) -> None:
        other = json.dumps({"manifest": {"softdevice_bootloader": {"bin_file": "a", "dat_file": "b"}}}).encode()
        for data, said in (
            (package(manifest_json=other), "softdevice and bootloader"),
            (package(manifest_json=MANIFEST, probe_bin=b"\x01"), "without probe.dat"),
            (package(manifest_json=MANIFEST, probe_bin=b"", probe_dat=b"\x12"), "an empty file"),
            (package(manifest_json=MANIFEST, probe_bin=b"\x01", probe_dat=b"\x12")[:-9], "cannot be read"),
            (package(manifest_json=b"{"), "cannot be read"),
        ):
            with self.subTest(said), self.assertRaises(ImageFault) as caught:
                read_dfu_package(data, "probe.zip")
            self.assertIn(said, str(caught.exception))


class Nrf5Dfu(unittest.TestCase):
    def test_what_is_there_is_not_sent_again(self) -> None:
        image = sample_for(RADIO, 9000)
        whole = run(RADIO, {"flash": image}).line.to_chip_count
        runner, trial = prepare(RADIO, {"flash": image})
        chip: Any = trial.line.chip
        climb_first, first = prepare(RADIO, {"flash": image}, faults=("silence-after=150",))
        first.events.extend(climb_first.run())
        cut: Any = first.line.chip
        self.assertNotEqual(first.end.exit_code, 0)
        chip.packet, chip.bank = cut.packet, cut.bank
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), trial.findings)
        self.assertLess(trial.line.to_chip_count, whole - len(cut.bank))

    def test_the_last_answer_lost_is_no_failure_where_the_loader_has_gone(self) -> None:
        image = sample_for(RADIO, 1500)
        sent = run(RADIO, {"flash": image}, start=False).line.to_host_count
        trial = run(RADIO, {"flash": image}, faults=(f"silence-after={sent - 3}",))
        self.assertEqual((trial.end.exit_code, trial.end.green), (0, False), trial.findings)
        self.assertIn("the loader has gone", trial.step("verify").evidence)
        heard = run(RADIO, {"flash": image}, faults=tuple(f"drop-to-host={sent - n}" for n in (3, 4, 5)))
        self.assertEqual((heard.end.exit_code, heard.end.green, heard.holds(image)), (0, True, True), heard.findings)

    def test_results_by_the_names_of_the_document(self) -> None:
        for told, words in ((b"\x05", "object"), (b"\x07", "type"), (b"\x0b\x05", "version"), (b"\x0b\x0c", "verif")):
            self.assertIn(words, Dfu._refusal(DfuCommand.EXECUTE, told).said)

    def test_objects_that_came_damaged_are_made_anew(self) -> None:
        image = sample_for(RADIO, 5000)
        count = run(RADIO, {"flash": image}).line.to_chip_count
        for place in range(count - 5000, count - 20, 899):
            for kind in ("drop", "repeat"):
                trial = run(RADIO, {"flash": image}, faults=(f"{kind}-to-chip={place}",))
                self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), (kind, place))

    def test_an_answer_lost_at_an_object_s_end_does_not_do_it_twice(self) -> None:
        image = sample_for(RADIO, 9000)
        count = run(RADIO, {"flash": image}).line.to_host_count
        for place in range(count - 110, count - 40, 5):
            trial = run(RADIO, {"flash": image}, faults=(f"drop-to-host={place}",))
            self.assertEqual((trial.end.exit_code, trial.line.chip.violations), (0, []), place)

    def test_a_bare_program_goes_with_its_packet_as_a_setting(self) -> None:
        image = sample_for(RADIO, 900)
        bare = replace(image, header="", format="raw binary")
        trial = run(RADIO, {"flash": bare}, options=WriteOptions(settings={"packet": image.header}))
        self.assertEqual((trial.end.exit_code, trial.end.green), (0, True), trial.findings)
        trial = run(RADIO, {"flash": bare}, options=WriteOptions(settings={"packet": "no hex"}))
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "setting"))


if __name__ == "__main__":
    unittest.main()
