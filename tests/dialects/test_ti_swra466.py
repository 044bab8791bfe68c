"""`ti-swra466`: what its weak sum cannot see, what the document leaves open, and the way back."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

from greenstep.bench.trial import Trial, prepare, run, sample_for
from greenstep.core.dialects.ti_packets import big, ends_apart, packet
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import WriteOptions


class Packets(unittest.TestCase):
    def test_as_the_document_has_them(self) -> None:
        self.assertEqual(packet(b"\x20"), bytes.fromhex("03 20 20"))
        self.assertEqual(packet(b"\x21" + big(0x2000, 0x7E0)), bytes.fromhex("0B 28 21 00 00 20 00 00 00 07 E0"))

    def test_a_byte_that_comes_twice_is_seen_where_the_last_is_like_no_other(self) -> None:
        for data in (b"\x26" + big(0x202D), b"\x21" + big(0xA2000, 0x7E0)):
            self.assertTrue(ends_apart(data))
            for at in range(len(data)):
                twice = (data[: at + 1] + data[at:])[: len(data)]
                self.assertTrue(twice == data or sum(twice) & 0xFF != sum(data) & 0xFF)
        for data in (b"\x26" + big(0x2000), b"\x21" + big(0x7E00, 0x7E)):
            self.assertFalse(ends_apart(data))


class WhatIsNotKnown(unittest.TestCase):
    def test_both_ways_of_erasing_of_sums_and_of_words(self) -> None:
        for board in ("cc2652p", "cc2650"):
            for changes in ({"strict": True}, {"strict": False}, {"inverted": True}, {"inverted": False},
                            {"high_first": True}, {"high_first": False}):  # fmt: skip
                with self.subTest(board, **changes):
                    runner, trial = prepare(board, {"flash": sample_for(board, 9000)})
                    chip = trial.line.chip
                    chip.kind = replace(chip.kind, **changes)  # type: ignore[attr-defined]
                    trial.events.extend(runner.run())
                    self.assertEqual((trial.end.exit_code, trial.end.green), (0, True), trial.findings)
                    self.assertTrue(trial.holds(sample_for(board, 9000)))
                    self.assertIn("the chip's own checksum", trial.step("verify").evidence)
                    self.assertEqual(runner.outcome.unique_id, "00124B000C0FFEE0")

    def test_a_sum_that_is_neither_is_not_believed(self) -> None:
        runner, trial = prepare("cc2650", {"flash": sample_for("cc2650", 3000)})
        chip = trial.line.chip
        chip._crc = lambda address, size: chip.answer(b"\x12\x34\x56\x78")  # type: ignore[attr-defined]
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.exit_code, trial.end.green), (0, True), trial.findings)
        self.assertIn("read back", trial.step("verify").evidence)


class TheWayBack(unittest.TestCase):
    def test_a_lock_out_is_written_when_it_is_meant_twice(self) -> None:
        image = sample_for("cc2650", 3000)
        shut = replace(image, pieces=(image.pieces[0], Piece(image.pieces[1].address, b"\xff" * 80)))
        meant = ("protection", "lock-out", "vectors")
        for words, status in (((), 5), (("lock-out",), 5), (("protection", "lock-out"), 5), (meant, 0)):
            trial = run("cc2650", {"flash": shut}, options=WriteOptions(even_if=frozenset(words)), start=False)
            self.assertEqual(trial.end.exit_code, status, trial.findings)

    def test_a_sector_that_is_touched_counts_whole(self) -> None:
        """The image has a row of the last sector, and not the word that enables the loader: that is erased with it."""
        for board in ("cc2650", "cc2652p"):
            image = sample_for(board, 3000)
            base = image.pieces[0].address
            size = len(prepare(board)[1].line.chip.flash)  # type: ignore[attr-defined]
            beside = replace(image, pieces=(image.pieces[0], Piece(base + size - 256, bytes(16))))
            trial = run(board, {"flash": beside}, start=False)
            self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "would-lock"))
            self.assertIn("its sector is erased", trial.findings[0].evidence[0])

    def test_what_the_rom_would_not_start_is_refused(self) -> None:
        for board in ("cc2650", "cc2652p", "cc2538"):
            image = sample_for(board, 3000)
            program = replace(image, pieces=image.pieces[:1])
            with self.subTest(board):
                trial = self.on_a_blank_chip(board, program)
                self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "vectors"))
                self.assertEqual(set(trial.line.chip.flash), {0xFF})  # type: ignore[attr-defined]
                trial = self.on_a_blank_chip(board, program, "vectors")
                self.assertEqual(
                    (trial.end.exit_code, trial.end.green, trial.step("start").outcome), (0, False, "unproven")
                )
                trial = self.on_a_blank_chip(board, image)
                self.assertEqual((trial.end.exit_code, trial.end.green), (0, True), trial.findings)

    def on_a_blank_chip(self, board: str, image: Image, *even_if: str) -> Trial:
        runner, trial = prepare(board, {"flash": image}, options=WriteOptions(even_if=frozenset(even_if)))
        chip: Any = trial.line.chip
        chip.flash[:] = b"\xff" * len(chip.flash)
        trial.events.extend(runner.run())
        return trial

    def test_the_configuration_is_written_anew_with_whatever_differs(self) -> None:
        """So that a chip whose upload was cut off enters its loader by itself."""
        image = sample_for("cc2652p", 20_000)
        old = sample_for("cc2652p", 20_000, seed=9)
        runner, trial = prepare("cc2652p", {"flash": image}, start=False, faults=("cut-after=12000",))
        chip: Any = trial.line.chip
        for piece in old.pieces:
            chip.flash[piece.address : piece.end] = piece.data
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.green, chip.enters(False)), (False, True))

    def test_the_configuration_goes_first_and_comes_last(self) -> None:
        image = sample_for("cc2652p", 20_000)
        count = run("cc2652p", {"flash": image}, compare=False).line.to_chip_count
        for tenth in range(2, 10):
            trial = run("cc2652p", {"flash": image}, compare=False, faults=(f"cut-after={count * tenth // 10}",))
            chip = trial.line.chip
            begun = chip.flash[:64] != run("cc2652p", purpose="greet").line.chip.flash[:64]
            self.assertTrue(not begun or chip.enters(False), tenth)  # type: ignore[attr-defined]


if __name__ == "__main__":
    unittest.main()
