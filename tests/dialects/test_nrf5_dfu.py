"""`nrf5-dfu`: packages, and objects that are executed once."""

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
from greenstep.core.image import ImageFault
from greenstep.core.image.dfu_package import read_dfu_package
from greenstep.core.plan.write_options import WriteOptions

FOUR, FIVE, RADIO = "cy8c4245", "cy8c5888", "nrf52832"


def line(array: int, row: int, data: bytes) -> str:
    body = bytes([array]) + row.to_bytes(2, "big") + len(data).to_bytes(2, "big") + data
    return f":{(body + bytes([-sum(body) & 0xFF])).hex().upper()}"


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
