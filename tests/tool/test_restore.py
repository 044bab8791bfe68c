"""Backups that go back: what a chip held before is there again, byte for byte."""

from __future__ import annotations

import unittest

from .support import ToolTest


class ThereAndBack(ToolTest):
    def test_an_avr_with_its_bootloader_left_alone(self) -> None:
        bench = self.bench("hive-scale")
        reach = ("--chip", "atmega328p", "--port", bench.port("hive-scale"))
        first = self.run_tool("upload", "hive-scale.hex", *reach, "--no-start")
        self.assertEqual(first.status, 0, first.text)
        (self.folder / "other.bin").write_bytes(bytes.fromhex("0C943400") * 300)
        second = self.run_tool("upload", "other.bin", "at", "0", *reach, "--backup-first", "before.hex", "--no-start")
        self.assertEqual(second.status, 0, second.text)
        self.assertIn("saved as before.hex", second.out)
        self.assertIn("Journal 3.", second.out)
        back = self.run_tool("restore", "before.hex", *reach, "--no-start")
        self.assertEqual(back.status, 0, back.text)
        self.assertIn("the bootloader's space 7E00-7FFF is left as it is", back.out)
        held = bench.close()["hive-scale.flash"]
        self.assertEqual(held[:4000], self.scale.pieces[0].data)

    def test_a_piece_of_any_content_goes_back_to_its_place(self) -> None:
        bench = self.bench("brood-probe")
        reach = ("--chip", "stm32f072rb", "--hookup", "dtr-reset-rts-boot", "--port", bench.port("brood-probe"))
        (self.folder / "settings.bin").write_bytes(b"hive 7, north field. " * 9)
        put = self.run_tool("restore", "settings.bin", "at", "0x08004000", *reach, "--no-start")
        self.assertEqual(put.status, 0, put.text)
        region = ("--from", "0x08004000", "--size", "189")
        for name, said in (("again.hex", "saved as again.hex\n"), ("again.bin", "which belongs at 0x8004000")):
            saved = self.run_tool("backup", *reach, *region, "--save", name)
            self.assertEqual((saved.status, said in saved.out), (0, True), saved.text)
        same = self.run_tool("image", "compare", "again.hex", "settings.bin", "at", "0x08004000")
        self.assertEqual(same.status, 0, same.text)

    def test_what_is_refused(self) -> None:
        self.project("[board.x]\nchip = 'stm32f072rb'\nport = '/dev/none'\nimages = ['brood-probe.hex']\n")
        for words, said in (
            (("restore", "x"), "restore what?"), (("restore", "x", "none.hex"), "there is no file"),
            (("upload", "x", "--backup-first", "brood-probe.hex"), "is there already"),
        ):  # fmt: skip
            run = self.run_tool(*words)
            self.assertEqual((run.status, said in run.text), (2, True), run.text)
        dead = self.run_tool("upload", "x", "--backup-first", "before.hex")
        self.assertEqual((dead.status, (self.folder / "before.hex").exists()), (3, False), dead.text)


class Unchanged(ToolTest):
    def test_what_is_there_already_is_not_written_again(self) -> None:
        bench = self.bench("brood-probe")
        reach = (
            "--chip",
            "stm32f072rb",
            "--hookup",
            "dtr-reset-rts-boot",
            "--port",
            bench.port("brood-probe"),
            "--if-changed",
        )
        first = self.run_tool("upload", "brood-probe.hex", *reach, "--json")
        self.assertEqual((first.status, first.event("compared")["same"]), (0, False), first.text)
        self.assertTrue(first.event("run-ended")["green"])
        again = self.run_tool("upload", "brood-probe.hex", *reach)
        self.assertEqual(again.status, 0, again.text)
        self.assertIn("holds brood-probe.hex already: read back, 5,000 bytes equal. Nothing was written", again.out)
        self.assertNotIn("write", again.out.replace("written", ""))
        self.assertEqual(len(self.run_tool("journal", "--json").events), 1)

    def test_where_it_cannot_be_told_the_upload_says_why(self) -> None:
        run = self.run_tool(
            "upload", "brood-probe.hex", "--chip", "stm32f072rb", "--port", "/dev/none", "--if-changed"
        )
        self.assertEqual((run.status, run.out.count("✗ port")), (3, 1), run.text)


if __name__ == "__main__":
    unittest.main()
