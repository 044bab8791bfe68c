"""A release as it was downloaded, and a chip that is looked at as it is."""

from __future__ import annotations

import unittest
import zipfile

import pexpect

from greenstep.bench.trial import sample_for
from greenstep.core.image.intel_hex import write_intel_hex

from .support import COMMAND, ToolTest


class Release(ToolTest):
    def setUp(self) -> None:
        super().setUp()
        with zipfile.ZipFile(self.folder / "scales-2.4.zip", "w") as archive:
            for name, board, size in (
                ("builds/scale.hex", "hive-scale", 3000), ("builds/scale-large.hex", "hive-scale", 20_000),
                ("builds/probe.hex", "brood-probe", 3000), ("builds/lift.hex", "frame-lift", 60_000),
            ):  # fmt: skip
                archive.writestr(name, "".join(write_intel_hex(sample_for(board, size))))
            for board in ("esp8266", "esp32"):
                archive.writestr(f"esp/{board}.bin", sample_for(board, 3000).pieces[0].data)
            archive.writestr("README.md", "# Hive scales\nUpload the right one.\n")

    def test_the_only_build_that_fits_is_taken(self) -> None:
        run = self.run_tool("upload", "scales-2.4.zip", "--port", "bench:brood-probe")
        self.assertEqual((run.status, "holds probe.hex" in run.out), (0, True), run.text)

    def test_several_are_listed_and_asked_for(self) -> None:
        run = self.run_tool("upload", "scales-2.4.zip", "--port", "bench:hive-scale")
        self.assertEqual((run.status, run.out), (2, ""), run.text)
        for said in ("scales-2.4.zip:builds/scale.hex", "ruled out: builds/lift.hex: the image does not fit"):
            self.assertIn(said, run.err)
        self.assertNotIn("README", run.err)
        child = pexpect.spawn(
            COMMAND, ["upload", "scales-2.4.zip", "--port", "bench:hive-scale"], cwd=str(self.folder), timeout=30,
            env=self.environment(TERM="xterm"),  # type: ignore[arg-type]
        )  # fmt: skip
        child.expect("lift.hex   not for this board")
        child.expect("2. builds/scale-large.hex")
        child.sendline("2")
        child.expect("holds scale-large.hex")
        child.expect(pexpect.EOF)

    def test_a_member_is_named_without_asking(self) -> None:
        run = self.run_tool("upload", "scales-2.4.zip:builds/scale.hex", "--port", "bench:hive-scale")
        self.assertEqual((run.status, "holds scale.hex" in run.out), (0, True), run.text)
        wrong = self.run_tool("upload", "scales-2.4.zip:scale.hex", "--port", "bench:hive-scale")
        self.assertEqual((wrong.status, "there is builds/scale.hex" in wrong.text), (2, True), wrong.text)
        shown = self.run_tool("image", "show", "scales-2.4.zip:builds/scale.hex")
        self.assertEqual((shown.status, "scale.hex   Intel HEX" in shown.out), (0, True), shown.text)

    def test_none_fits_or_none_is_there(self) -> None:
        run = self.run_tool("upload", "scales-2.4.zip", "--port", "bench:lpc1114")
        self.assertEqual((run.status, "no build in scales-2.4.zip is for this board" in run.err), (5, True), run.text)
        with zipfile.ZipFile(self.folder / "notes.zip", "w") as archive:
            archive.writestr("README.md", "nothing here")
        self.assertEqual(self.run_tool("upload", "notes.zip", "--port", "bench:hive-scale").status, 2)
        (self.folder / "cut.zip").write_bytes((self.folder / "scales-2.4.zip").read_bytes()[:900])
        self.assertEqual(self.run_tool("upload", "cut.zip", "--port", "bench:hive-scale").status, 5)

    def test_an_esp_image_for_another_of_the_family_is_called_that(self) -> None:
        for member, chip, at, whose in (
            ("esp/esp32.bin", "esp8266", "0", "for the ESP32, and not the ESP8266"),
            ("esp/esp8266.bin", "esp32", "0x1000", "for the ESP8266, and not the ESP32"),
        ):
            run = self.run_tool("image", "show", f"scales-2.4.zip:{member}", "at", at, "--chip", chip)
            self.assertEqual((run.status, whose in run.out), (5, True), run.text)
            self.assertNotIn("damaged", run.out)


class LiveChip(ToolTest):
    def test_bytes_words_and_text_without_a_file(self) -> None:
        before = set(self.folder.iterdir())
        run = self.run_tool("dump", "--port", "bench:hive-scale", "--from", "0x68", "--size", "64")
        self.assertEqual((run.status, "says·hi" in run.out, "w 0034" in run.out), (0, True, True), run.text)
        self.assertEqual(set(self.folder.iterdir()), before)
        plain = self.run_tool("dump", "--port", "bench:brood-probe", "--bytes")
        self.assertIn("08000000  ", plain.out)
        rows = self.run_tool("dump", "--port", "bench:brood-probe", "--size", "32", "--json").events
        self.assertEqual([event["address"] for event in rows if event["event"] == "row"], [0x08000000, 0x08000010])

    def test_a_read_back_is_judged_as_one(self) -> None:
        run = self.run_tool("backup", "--port", "bench:hive-scale", "--save", "before.hex")
        self.assertEqual(run.status, 0, run.text)
        shown = self.run_tool("image", "show", "before.hex", "--chip", "atmega328p")
        self.assertEqual((shown.status, "it was read from such a chip" in shown.out), (0, True), shown.text)
        drawn = self.run_tool("image", "map", "before.hex", "--chip", "atmega328p")
        free = next(line for line in drawn.out.splitlines() if "free" in line)
        self.assertIn("26,", free)


if __name__ == "__main__":
    unittest.main()
