"""ESP: the flash chip behind the ROM: its size, its last sector, and what the ROM says after a start."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

from greenstep.bench.person import Hands
from greenstep.bench.trial import Trial, prepare, sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.image.granules import Remembered, granules_of
from greenstep.core.plan.write_options import CompareWith, WriteOptions
from greenstep.core.spans import Span

SECTOR = 4096


def on(board: str, purpose: Any = "upload", image: Image | None = None, **options: Any) -> Trial:
    """A run on a board whose simulated chip has these attributes in `silicon`."""
    silicon = options.pop("silicon", {})
    images = {"flash": image or sample_for(board, 3000)} if purpose in ("upload", "verify") else None
    runner, trial = prepare(board, images, purpose=purpose, **options)
    for name, value in silicon.items():
        setattr(trial.line.chip, name, value)
    trial.events.extend(runner.run())
    return trial


def settings(**values: str) -> WriteOptions:
    return WriteOptions(settings={name.replace("_", "-"): value for name, value in values.items()})


def tables(size_bytes: int, logarithm: bool = False) -> bytes:
    """SFDP with one parameter header, whose table stands at 30h."""
    bits = 8 * size_bytes
    word = 1 << 31 | bits.bit_length() - 1 if logarithm else bits - 1
    header = b"SFDP\x06\x01\x00\xff" + b"\x00\x06\x01\x10" + b"\x30\x00\x00\xff"
    return header.ljust(0x30, b"\xff") + b"\xe5\x20\xf1\xff" + word.to_bytes(4, "little") + bytes(8)


class Size(unittest.TestCase):
    def test_no_flash_is_refused(self) -> None:
        for number in (0xFFFFFF, 0):
            trial = on("esp32", silicon={"jedec_id": number})
            self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "no-flash"))

    def test_its_own_tables_tell_it(self) -> None:
        for board in ("esp8266", "esp32", "esp32s3"):
            for logarithm in (False, True):
                size = 8 << 20 if board == "esp32s3" else 4 << 20
                trial = on(board, "greet", silicon={"jedec_id": 0x01861F, "sfdp": tables(size, logarithm)})
                self.assertEqual(trial.step("chip").figures["flash_bytes"], size, board)

    def test_unknown_is_not_the_largest(self) -> None:
        """The header of the sample says 4 MiB: no further than that."""
        unknown = {"jedec_id": 0x01861F}
        whole = sample_for("esp32", 3000)
        trial = on("esp32", silicon=unknown)
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        self.assertIn("the size of the flash is not known: no further than 4 MiB", str(trial.events))
        far = replace(whole, pieces=(*whole.pieces, Piece(5 << 20, b"pages" * 40)))
        nameless = Image("pages.bin", (Piece(0x200000, b"pages" * 40),))
        blank = {**unknown, "flash": bytearray(b"\xff") * (4 << 20)}
        for image, said in ((far, "4 MiB"), (nameless, "no boot header")):
            trial = on("esp32", image=image, silicon=blank)
            self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "flash-size-unknown"))
            self.assertIn(said, trial.findings[0].evidence[1])
        trial = on("esp32", image=nameless, silicon=unknown, options=settings(flash_size="4M"), start=False)
        self.assertEqual((trial.end.green, trial.holds(nameless)), (True, True), trial.findings)


class Places(unittest.TestCase):
    def test_one_byte_in_the_last_sector_of_an_esp8266(self) -> None:
        """Its ROM erases two sectors for one; behind the last one the flash begins anew."""
        for sectors in (1, 2, 3):
            size = 4 << 20
            image = Image("pages.bin", (Piece(size - sectors * SECTOR + 5, bytes(range(1, 90)) * 46 * sectors),))
            image = replace(image, pieces=(image.pieces[0].part(Span(image.lowest, size)),))
            runner, trial = prepare("esp8266", {"flash": image}, start=False)
            chip: Any = trial.line.chip
            chip.flash[:] = bytes(range(256)) * (size // 256)
            before = bytes(chip.flash)
            trial.events.extend(runner.run())
            self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), trial.findings)
            self.assertEqual(bytes(chip.flash[: size - sectors * SECTOR]), before[: size - sectors * SECTOR])

    def test_blanks_in_a_sector_do_not_shift_what_begins_there(self) -> None:
        whole = sample_for("esp32", 9000)
        data = bytearray(bytes(range(1, 251)) * 50)
        data[1024:3072] = b"\xff" * 2048
        image = replace(whole, pieces=(*whole.pieces, Piece(0x100000, bytes(data))))
        trial = on("esp32", image=image, options=WriteOptions(erase_all=True))
        self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), trial.findings)
        self.assertEqual([v for v in trial.line.chip.violations if "busy" not in v], [])


class Whole(unittest.TestCase):
    def test_whole_is_neither_a_sample_nor_the_journal(self) -> None:
        image = sample_for("esp8266", 12_000)

        def recall(number: str, chip: str) -> Remembered:
            return Remembered(3, granules_of(image, 0xFF))

        for options, changed, ended in (
            (settings(verify="whole"), True, "green"), (settings(verify="whole"), False, "green"),
            (settings(), False, "unproven"), (WriteOptions(compare=CompareWith.NO_JOURNAL), True, "unproven"),
        ):  # fmt: skip
            runner, trial = prepare("esp8266", {"flash": image}, recall=recall, options=options)
            chip: Any = trial.line.chip
            chip.flash[: image.end] = image.pieces[0].data
            chip.flash[777] ^= 1 if changed else 0
            trial.events.extend(runner.run())
            self.assertEqual((trial.step("verify").outcome, trial.holds(image)), (ended, True), trial.findings)
            self.assertEqual(trial.end.green, ended == "green")

    def test_blank_is_never_answered_by_a_sample(self) -> None:
        region = ("flash", 0x20000, 0x1803)
        for changed, status in ((None, 0), (0x20F01, 7)):
            runner, trial = prepare("esp8266", purpose="verify", region=region, options=WriteOptions(blank=True))
            chip: Any = trial.line.chip
            if changed is not None:
                chip.flash[changed] = 0x7F
            trial.events.extend(runner.run())
            self.assertEqual((trial.end.exit_code, trial.end.green), (status, not status), trial.findings)


class Starts(unittest.TestCase):
    def test_what_the_rom_says_after_an_acknowledged_reset_counts(self) -> None:
        by_hand = named_hookup("by-hand", "low")
        for board in ("esp8266", "esp32", "esp32c3"):
            for stays, status in ((True, 8), (False, 0)):
                image = sample_for(board, 3000)
                with self.subTest(board, stays=stays):
                    person = {"hands": Hands(1.0), "end_patience_s": 0.0}
                    trial = on(board, image=image, hookup=by_hand, silicon={"stays": stays}, **person)
                    self.assertEqual(trial.end.exit_code, status, trial.findings)
                    if stays:
                        self.assertEqual(trial.findings[0].key, "rom-text")
                        self.assertIn("waits for an upload", trial.findings[0].cause)

    def test_secure_boot_of_either_version(self) -> None:
        for bit in (4, 5):
            trial = on("esp32", silicon={"fuse_words": {0x3FF5A018: 1 << bit}})
            self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "encryption"), bit)


if __name__ == "__main__":
    unittest.main()
