"""The same upload again and again: what is left alone, trusted, kept and told, and what is found nowhere."""

from __future__ import annotations

import sqlite3
import unittest
from pathlib import Path
from typing import ClassVar

from greenstep.core.image.edit import with_bytes

from .support import Bench, Run, ToolTest

APIARY = Path(__file__).parents[2] / "examples" / "apiary"
REACH = ("--chip", "stm32f072", "--hookup", "dtr-reset-rts-boot")


class OnlyWhatDiffers(ToolTest):
    def upload(self, bench: Bench, *arguments: str, board: str = "brood-probe", **variables: str) -> Run:
        return self.run_tool(
            "upload", "brood-probe.hex", *REACH, "--port", bench.port(board), *arguments, **variables
        )

    def change(self, offset: int) -> None:
        """A byte of the image becomes another."""
        piece = self.probe.pieces[0]
        turned = bytes([piece.data[offset] ^ 0x40])
        self.write_hex("brood-probe.hex", with_bytes(self.probe, piece.address + offset, turned))

    def test_a_changed_byte_and_a_journal_that_is_trusted(self) -> None:
        bench = self.bench("brood-probe")
        first = self.upload(bench, "--compare", "journal")
        self.assertEqual(first.status, 0, first.text)
        self.assertIn("the journal is not trusted: its last upload to this chip is not known", first.out)
        self.change(3000)
        read = self.upload(bench)
        self.assertIn("read back: 1 of 3 erase units differs", read.out)
        self.assertIn("2,048 bytes equal; compared before, 2,952", read.out)
        self.change(4000)
        trusted = self.upload(bench, GREENSTEP_COMPARE="journal")
        self.assertEqual(trusted.status, 0, trusted.text)
        self.assertIn("journal 2 and the chip's number agree, a sample of", trusted.out)
        self.assertRegex(
            trusted.out, r"◐ verify +sampled: [\d,]+ bytes written, read back and equal; .* the rest by journal 2"
        )
        rows = self.run_tool("journal", "--json").events
        self.assertIn("sampled: ", rows[0]["proof"])
        content = bench.close()["brood-probe.flash"]
        self.assertEqual(content[4000], self.probe.pieces[0].data[4000] ^ 0x40)

    def test_a_row_that_does_not_count_is_not_trusted(self) -> None:
        bench = self.bench("brood-probe")
        self.assertEqual(self.upload(bench).status, 0)
        erased = self.run_tool("erase", *REACH, "--port", bench.port("brood-probe"), "--yes")
        self.assertEqual(erased.status, 0, erased.text)
        run = self.upload(bench, "--compare", "journal")
        self.assertIn("not known, or was not green", run.out)
        with sqlite3.connect(self.folder / "journal.sqlite") as file:
            file.execute("UPDATE content SET granules = x'00'")
        run = self.upload(bench, "--compare", "journal")
        self.assertEqual((run.status, "not known, or was not green" in run.out), (0, True), run.text)

    def test_everything_where_that_is_asked_for(self) -> None:
        bench = self.bench("brood-probe")
        self.upload(bench)
        run = self.upload(bench, "--compare", "off")
        self.assertNotIn("compare", run.out)
        self.assertIn("read back, 5,000 bytes equal", run.out)

    def test_a_cut_off_upload_is_taken_up_again(self) -> None:
        bench = self.bench("hive-scale")
        reach = ("--chip", "atmega328p", "--port", bench.port("hive-scale"))
        cut = self.run_tool("upload", "hive-scale.hex", *reach[:-1], reach[-1] + "&gone-after=0.68")
        self.assertEqual(cut.status, 3, cut.text)
        self.assertRegex(cut.out, r"[12],\d{3} of 4,096 bytes are written")
        run = self.run_tool("upload", "hive-scale.hex", *reach)
        self.assertEqual(run.status, 0, run.text)
        self.assertRegex(run.out, r"read back(: 1?\d of 32 pages differ|, \d+ of 32 pages: 1?\d to write)")
        self.assertEqual(bench.close()["hive-scale.flash"][:4000], self.scale.pieces[0].data)


class EveryFamily(ToolTest):
    """The apiary's boards, each uploaded twice."""

    SECOND: ClassVar[dict[str, str]] = {
        "brood-probe": r"read back: nothing differs",
        "entrance-counter": r"read back: 1 of \d+ erase units differs, hidden by the boot ROM",
        "apiary-gateway": r"the chip's own checksum: nothing differs",
        "rain-gauge": r"journal \d+ and the chip's number agree, a sample of [\d,]+ bytes too: nothing differs",
    }

    def test_the_second_time_nothing_is_written(self) -> None:
        bench = self.bench(*self.SECOND)
        for name, compared in self.SECOND.items():
            with self.subTest(name):
                words = ("upload", name, "--project", str(APIARY / "greenstep.toml"), "--port", bench.port(name))
                first = self.run_tool(*words)
                self.assertEqual(first.status, 0, first.text)
                second = self.run_tool(*words)
                self.assertEqual(second.status, 0, second.text)
                self.assertRegex(second.out, r"● compare +" + compared)
                self.assertEqual("nothing to write" in second.out, name != "entrance-counter")
        held = self.run_tool("journal", "--on-chips", "--json").events
        self.assertEqual(
            {row["board"] for row in held}, {"brood-probe", "entrance-counter", "apiary-gateway", "rain-gauge"}
        )

    def test_keys_of_the_project_file(self) -> None:
        bench = self.bench("brood-probe")
        self.project(
            f'[board.probe]\nchip = "stm32f072rb"\nport = "{bench.port("brood-probe")}"\nhookup = "dtr-reset-rts-boot"\n'
            'images = ["brood-probe.hex"]\ncompare = "journal"\nkeep = [{ from = 0x080017D0, size = 16, why = "names" }]\n'
        )
        first = self.run_tool("upload", "probe")
        self.assertEqual(first.status, 0, first.text)
        self.assertIn("● keep     080017D0-080017DF, 16 bytes read in two ways and equal: written back", first.out)
        second = self.run_tool("upload", "probe")
        self.assertRegex(second.out, r"● compare +journal 1 and the chip's number agree")
        self.assertIn("● keep     080017D0-080017DF: left alone", second.out)
        self.assertRegex(second.out, r"◐ verify +sampled: [\d,]+ of 5,000 seen; the rest by journal 1")
        third = self.run_tool("upload", "probe", "--compare", "chip")
        self.assertRegex(third.out, r"● compare +read back: nothing differs")
        fourth = self.run_tool("upload", "probe", GREENSTEP_COMPARE="off")
        self.assertNotIn("compare", fourth.out)
        self.project((self.folder / "greenstep.toml").read_text().replace('"journal"', '"sometimes"'))
        wrong = self.run_tool("upload", "probe")
        self.assertEqual((wrong.status, 'write "chip"' in wrong.err), (2, True), wrong.text)


class Kept(ToolTest):
    def test_settings_beside_the_program_survive_and_are_put_aside_meanwhile(self) -> None:
        bench = self.bench("brood-probe")
        (self.folder / "settings.bin").write_bytes(b"hive 7, north field")
        reach = (*REACH, "--port", bench.port("brood-probe"))
        put = self.run_tool("restore", "settings.bin", "at", "0x080017D0", *reach)
        self.assertEqual(put.status, 0, put.text)
        keep = ("--keep", "0x080017D0:19")
        run = self.run_tool("upload", "brood-probe.hex", *reach, *keep, "--compare", "off")
        self.assertEqual(run.status, 0, run.text)
        self.assertIn("● keep     080017D0-080017E2, 19 bytes read in two ways and equal: written back", run.out)
        self.assertEqual(list((self.folder / "kept").iterdir()), [])
        cut = self.run_tool(
            "upload", "brood-probe.hex", *reach[:-1], reach[-1] + "&gone-after=0.6", *keep, "--compare", "off"
        )
        aside = list((self.folder / "kept").iterdir())
        self.assertEqual((cut.status, len(aside)), (3, 1), cut.text)
        self.assertIn(f"What was to be kept is in {aside[0]}: restore it first", cut.out)
        held = aside[0].read_text()
        hasty = self.run_tool("upload", "brood-probe.hex", *reach, *keep, "--compare", "off", "--no-verify")
        self.assertIn(f"an earlier upload did not bring back what is in {aside[0]}", hasty.out)
        self.assertRegex(hasty.out, r"what was to be kept is also in \S+\.hex: it is not proven to be back")
        back = self.run_tool("restore", str(aside[0]), *reach)
        self.assertEqual(back.status, 0, back.text)
        self.assertIn(str(aside[0]), self.run_tool("journal", "--put-aside").out)
        self.assertEqual(self.run_tool("journal", "--put-aside", "--clear").status, 2)
        self.assertIn(" removed", self.run_tool("journal", "--put-aside", "--clear", "--yes").out)
        self.assertEqual(list((self.folder / "kept").iterdir()), [])
        aside[0].write_text(held)  # as if it had not been removed: the chip holds it all again
        again = self.run_tool("upload", "brood-probe.hex", *reach, *keep, "--compare", "off")
        self.assertEqual((again.status, "did not bring back" in again.out), (0, False), again.text)
        self.assertEqual(list((self.folder / "kept").iterdir()), [])
        content = bench.close()["brood-probe.flash"]
        self.assertEqual(content[0x17D0 : 0x17D0 + 19], b"hive 7, north field")
        self.assertEqual(content[:5000], self.probe.pieces[0].data)

    def test_an_image_in_kept_room_and_a_place_that_cannot_be_written(self) -> None:
        bench = self.bench("brood-probe")
        reach = (*REACH, "--port", bench.port("brood-probe"))
        run = self.run_tool("upload", "brood-probe.hex", *reach, "--keep", "0x08000100:16")
        self.assertEqual(run.status, 5)
        self.assertIn("the image overlaps a region that is to be kept", run.out)
        (self.folder / "kept").write_text("in the way")
        run = self.run_tool("upload", "brood-probe.hex", *reach, "--keep", "0x080017D0:19")
        self.assertEqual(run.status, 5)
        self.assertIn("could not be saved before erasing", run.out)
        self.assertIn("nothing on the chip was changed", run.out)


class InALog(ToolTest):
    def test_the_short_form_says_what_was_done(self) -> None:
        bench = self.bench("brood-probe")
        words = ("upload", "brood-probe.hex", *REACH, "--port", bench.port("brood-probe"))
        short = self.run_tool(*words, GREENSTEP_LADDER="")
        self.assertEqual(short.status, 0, short.text)
        self.assertRegex(short.out, r"^STM32F07x   bench:\S+   115200 8E1   \d{4}-\d\d-\d\d \d\d:\d\d:\d\d\n")
        steps = [line.split()[1] for line in short.out.splitlines() if line.startswith(" ●")]
        self.assertEqual(steps, ["compare", "write", "verify", "start"])
        self.assertLess(len(short.out.splitlines()), 10)
        full = self.run_tool(*words, "--ladder", "full", GREENSTEP_LADDER="")
        self.assertIn("● sync", full.out)

    def test_a_failure_shows_every_step(self) -> None:
        bench = self.bench("brood-probe", "--fault", "no-boot")
        run = self.run_tool(
            "upload", "brood-probe.hex", *REACH, "--port", bench.port("brood-probe"), GREENSTEP_LADDER="short"
        )
        self.assertEqual(run.status, 4)
        for expected in ("● image", "● port", "✗ sync", "try", "○ write"):
            self.assertIn(expected, run.out)


class Secrets(ToolTest):
    SECRET = "honey-17-clover"

    def searched(self) -> list[str]:
        """Files of the folder, where everything of a run goes, that hold the secret: as it is, or bit by bit."""
        bits = "".join(f"b{value:b} t\n1T\n" for value in self.SECRET.encode()[:3])
        held = [path for path in self.folder.rglob("*") if path.is_file()]
        self.assertGreater(len(held), 3)
        return [
            str(path) for path in held if self.SECRET.encode() in (data := path.read_bytes()) or bits.encode() in data
        ]

    def test_none_is_on_disk_after_a_run(self) -> None:
        bench = self.bench("brood-probe")
        home = {
            name: str(self.folder / "home")
            for name in ("HOME", "XDG_DATA_HOME", "XDG_CACHE_HOME", "XDG_CONFIG_HOME", "TMPDIR")
        }
        (self.folder / "home").mkdir()
        reach = ("brood-probe.hex", *REACH, "--port", bench.port("brood-probe"), "--expect", "brood probe 1.7")
        turn = '{ secret = "HIVE_KEY" }'
        runs = [
            self.run_tool("upload", *reach, "--talk", turn, "--trace", "talk.vcd", "--json", HIVE_KEY=self.SECRET, **home),
            self.run_tool("upload", *reach, "--talk", turn, "--talk", '{ expect = "stored", within = 1 }', HIVE_KEY=self.SECRET, **home),
            self.run_tool("batch", *reach, "--once", "--talk", turn, "--save", "all.csv", HIVE_KEY=self.SECRET, **home),
            self.run_tool("journal", "--csv", **home),
        ]  # fmt: skip
        self.assertEqual([run.status for run in runs], [0, 8, 0, 0], [run.text for run in runs])
        self.assertIn("HIVE_KEY", runs[1].out)
        self.assertNotIn(self.SECRET, "".join(run.text for run in runs))
        self.assertEqual(self.searched(), [])


if __name__ == "__main__":
    unittest.main()
