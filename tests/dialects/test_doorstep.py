"""Doorstep: its frames and vectors, the dialect over the bench's simulated loaders, and loaders made for boards."""

from __future__ import annotations

import os
import tomllib
import unittest
import zlib
from pathlib import Path
from typing import Any

from greenstep.bench.boards import BOARDS
from greenstep.bench.chip import Spend
from greenstep.bench.trial import Trial, prepare, run, sample_for
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.doorstep_frames import (
    Facts,
    Kind,
    facts_of,
    opened,
    question,
    sealed,
    stuffed,
    unstuffed,
    write_question,
)
from greenstep.core.dialects.doorstep_stream import bytes_with_crc32, joined
from greenstep.core.errors import UsageFault
from greenstep.core.events import Noted
from greenstep.core.image import Image, Piece
from greenstep.core.loaders.images import loader_for, loaders_known, make
from greenstep.core.loaders.loader_values import LoaderValues
from greenstep.core.plan.write_options import WriteOptions

VECTORS = tomllib.loads((Path(__file__).parents[2] / "docs" / "doorstep-vectors.toml").read_text("utf-8"))
BOARD = "doorstep-atmega328p"


class Frames(unittest.TestCase):
    def test_the_vectors(self) -> None:
        for row in VECTORS["frames"]:
            message, frame = bytes.fromhex(row["message"]), bytes.fromhex(row["frame"])
            with self.subTest(row["name"]):
                self.assertEqual(sealed(message), frame)
                self.assertEqual(opened(frame[:-1]), message)
        for row in VECTORS["refused"]:
            with self.subTest(row["name"]):
                self.assertIsNone(opened(bytes.fromhex(row["frame"])[:-1]))

    def test_questions_are_those_of_the_conversation(self) -> None:
        by_name = {row["name"]: bytes.fromhex(row["asks"]) for row in VECTORS["conversation"]}
        self.assertEqual(question(Kind.READ, 19, 120, 16), sealed(by_name["16 bytes read"]))
        self.assertEqual(write_question(10, 0, bytes(range(128))), sealed(by_name["a unit is written"]))

    def test_cobs_of_every_length_around_a_run(self) -> None:
        for size in (0, 1, 253, 254, 255, 508, 509, 510):
            for message in (bytes(size), b"\x07" * size, (b"\x07" * 9 + b"\x00") * (size // 10 + 1)):
                with self.subTest(size):
                    self.assertEqual(unstuffed(stuffed(message)[:-1]), message)
                    self.assertNotIn(0, stuffed(message)[:-1])

    def test_sums_of_two_runs_are_joined(self) -> None:
        for first, second in ((0, 5), (7, 0), (100, 300), (3, 70_000)):
            one, other = os.urandom(first), os.urandom(second)
            self.assertEqual(joined(zlib.crc32(one), zlib.crc32(other), second), zlib.crc32(one + other))

    def test_facts_that_contradict_each_other_are_none(self) -> None:
        told = bytes([2]) + facts_bytes()
        self.assertEqual(facts_of(told).data_bytes, 512)
        self.assertEqual(facts_of(told + b"\x01\x02").unique_id, b"")  # a later version may tell more
        for at, value in ((1, 0), (4, 0), (17, 0), (19, 0xFF), (16, 0)):
            with self.subTest(at), self.assertRaises(ValueError):
                facts_of(told[:at] + bytes([value]) + told[at + 1 :])
        with self.assertRaises(ValueError):
            facts_of(told[:30])

    def test_settings_of_rates(self) -> None:
        facts = facts_of(bytes([2]) + facts_bytes())
        self.assertEqual(
            [facts.rate_setting(baud) for baud in (115200, 2_000_000, 1_500_000, 1)], [17, 1, None, None]
        )
        fraction = facts_of(bytes([2]) + facts_bytes(base=16_000_000, most=0))
        self.assertEqual(fraction.rate_setting(1_000_000), 1 << 28)
        self.assertIsNone(fraction.rate_setting(2_000_000))


def facts_bytes(base: int = 2_000_000, most: int = 4096) -> bytes:
    """Those of an ATmega328P's loader."""
    loader = loader_for("atmega328p")
    assert loader is not None
    told = bytearray(loader.data[-loader.facts :][:38])
    told[30:36] = base.to_bytes(4, "little") + most.to_bytes(2, "little")
    return bytes(told)


class _Untouchable(bytearray):
    """A flash in which nothing is changed."""

    def __setitem__(self, place: Any, value: Any) -> None:
        raise AssertionError(f"{place} is written")


class Dialect(unittest.TestCase):
    def assert_green(self, trial: Trial, image: Image) -> None:
        self.assertTrue(trial.end.green, (trial.end, trial.findings))
        self.assertTrue(trial.holds(image))
        self.assertEqual(trial.line.chip.violations, [])

    def test_the_seal_is_over_what_stands_between_the_pieces_too(self) -> None:
        image = Image("lamp.hex", (Piece(0, bytes(range(1, 129))), Piece(0x1000, bytes(range(200)))))
        trial = run(BOARD, {"flash": image})
        self.assertTrue(trial.end.green, trial.findings)
        flash, length = bytes(trial.line.chip.flash), 0x1000 + 200
        self.assertEqual(flash[0x7B80:0x7B84], length.to_bytes(4, "little"))
        self.assertEqual(flash[0x7B84:0x7B88], zlib.crc32(flash[:length]).to_bytes(4, "little"))

    def test_without_verify_it_is_sealed_all_the_same(self) -> None:
        image = sample_for(BOARD, 3000)
        runner, _ = prepare(BOARD, {"flash": image})
        from dataclasses import replace

        trial = run(BOARD, {"flash": image}, options=replace(runner.job.options, verify=False))
        self.assertEqual(trial.end.exit_code, 0)
        self.assertTrue(trial.holds(image))

    def test_half_an_upload_is_not_started_and_the_other_half_follows(self) -> None:
        image = sample_for(BOARD, 9000)
        cut = run(BOARD, {"flash": image}, ("cut-after=4000",))
        self.assertFalse(cut.end.green)
        runner, trial = prepare(BOARD, {"flash": image})
        trial.line.chip.flash[:] = cut.line.chip.flash
        trial.line.chip.release_reset(0.0, False)
        trial.line.chip.advance(30.0)
        self.assertEqual(trial.line.chip.sent, [])  # the loader waits on
        trial.events.extend(runner.run())
        self.assert_green(trial, image)

    def test_several_writes_are_on_their_way_and_a_lost_one_is_sent_again(self) -> None:
        image = sample_for(BOARD, 9000)
        for place in range(900, 6000, 640):
            trial = run(BOARD, {"flash": image}, (f"drop-to-chip={place}",))
            with self.subTest(place):
                self.assert_green(trial, image)
                self.assertLess(trial.end.elapsed_s, 3.0)

    def test_frames_become_shorter_on_a_line_that_damages_long_ones(self) -> None:
        image = sample_for(BOARD, 6000)
        faults = tuple(f"flip-to-chip={at}:08" for at in range(100, 30_000, 350))
        trial = run(BOARD, {"flash": image}, faults)
        self.assertTrue(trial.end.green, (trial.end, trial.findings))
        self.assertTrue(trial.holds(image))

    def test_answers_of_another_question_are_not_taken_for_this_one(self) -> None:
        image = sample_for(BOARD, 3000)
        for at in range(0, 240, 9):
            trial = run(BOARD, {"flash": image}, (f"late-once={at}:900",))
            with self.subTest(at):
                self.assertTrue(trial.end.green, (trial.end, trial.findings))
                self.assertTrue(trial.holds(image))

    def test_a_chip_that_the_catalogue_does_not_have(self) -> None:
        for board in (BOARD, "doorstep-nrf51822", "doorstep-pic18f46k22"):
            trial = run(board, purpose="greet", chip="door-any")
            with self.subTest(board):
                self.assertTrue(trial.end.green, trial.findings)
                self.assertEqual(trial.step("chip").figures["loader"], "Doorstep 1")

    def test_what_changes_an_application_in_places_seals_all_of_it(self) -> None:
        first = run(BOARD, {"flash": sample_for(BOARD, 6000)})
        patch = Image("patch.hex", (Piece(0x400, bytes(range(100))),))
        runner, trial = prepare(BOARD, {"flash": patch})
        trial.line.chip.flash[:] = first.line.chip.flash
        trial.events.extend(runner.run())
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        flash = bytes(trial.line.chip.flash)
        self.assertEqual(flash[0x400:0x464], bytes(range(100)))
        self.assertEqual(flash[0x480:6000], bytes(first.line.chip.flash[0x480:6000]))
        self.assertEqual(flash[0x7B80:0x7B84], (6000).to_bytes(4, "little"))
        self.assertEqual(flash[0x7B84:0x7B88], zlib.crc32(flash[:6000]).to_bytes(4, "little"))

    def test_what_is_no_application_is_not_sealed(self) -> None:
        runner, trial = prepare(
            BOARD, {"flash": Image("table.bin", (Piece(0x2000, bytes(range(100))),))}, start=False
        )
        trial.line.chip.flash[:0x7C00] = b"\xff" * 0x7C00
        trial.events.extend(runner.run())
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        said = [event.text for event in trial.events if isinstance(event, Noted)]
        self.assertTrue(any(text.startswith("not sealed") for text in said), said)
        self.assertEqual(bytes(trial.line.chip.flash[0x7B80:0x7B88]), b"\xff" * 8)

    def test_it_is_said_that_it_was_sealed(self) -> None:
        trial = run(BOARD, {"flash": sample_for(BOARD, 3000)})
        said = [event.text for event in trial.events if isinstance(event, Noted)]
        self.assertTrue(any(text.startswith("sealed: 3,000 bytes, crc32 ") for text in said), said)

    def test_a_loader_without_read_is_uploaded_to_and_read_all_the_same(self) -> None:
        """Four bytes are told by their CRC-32; and it hears nothing while it writes, so one write is sent at a time."""
        board = "doorstep-digests"
        image = sample_for(board, 3001, seed=8)
        trial = run(board, {"flash": image})
        self.assertEqual((trial.end.green, trial.holds(image)), (True, True), trial.findings)
        self.assertEqual(trial.line.chip.violations, [])
        runner, trial = prepare(board, purpose="backup", region=("flash", 0x7B7D, 7))
        trial.line.chip.flash[0x7B7D:0x7B84] = b"\x00\xffhoney"
        trial.events.extend(runner.run())
        self.assertEqual(runner.outcome.backup, (Piece(0x7B7D, b"\x00\xffhoney"),))

    def test_four_bytes_by_their_sum(self) -> None:
        for data in (bytes(4), b"\xff" * 4, b"bees", *(os.urandom(4) for _ in range(200))):
            self.assertEqual(bytes_with_crc32(zlib.crc32(data)), data)

    def test_the_same_image_again_writes_nothing(self) -> None:
        """Not even the seal: that would wear it, and a cut there would leave no application."""
        for board in (BOARD, "doorstep-digests", "doorstep-nrf52832", "doorstep-pic18f46k22"):
            image = sample_for(board, 3000, seed=8)
            before = bytes(run(board, {"flash": image}).line.chip.flash)
            runner, trial = prepare(board, {"flash": image})
            trial.line.chip.flash = _Untouchable(before)
            trial.events.extend(runner.run())
            with self.subTest(board):
                self.assertEqual((trial.end.green, bytes(trial.line.chip.flash)), (True, before), trial.findings)
                noted = [event.text for event in trial.events if isinstance(event, Noted)]
                self.assertTrue(any(text.startswith("sealed already: ") for text in noted), noted)

    def test_what_it_says_to_the_seal(self) -> None:
        for status, key in ((1, "seal-refused"), (2, "seal-not-kept"), (3, "seal-not-kept")):
            image = sample_for(BOARD, 3000, seed=8)
            runner, trial = prepare(BOARD, {"flash": image})

            def refused(length: int, sum_: int, status: int = status) -> Any:
                yield Spend(0.01)
                return status, bytes(4)

            vars(trial.line.chip)["_seal"] = refused
            trial.events.extend(runner.run())
            with self.subTest(status):
                self.assertEqual((trial.findings[0].key, trial.end.exit_code), (key, 6), trial.findings)

    def test_what_the_flash_does_not_keep_is_no_upload_without_verify_either(self) -> None:
        image = sample_for(BOARD, 3000, seed=8)
        trial = run(BOARD, {"flash": image}, ("dead-write",), options=WriteOptions(verify=False))
        self.assertEqual((trial.end.exit_code, trial.step("write").outcome), (6, "failed"), trial.findings)

    def test_a_loader_that_never_heard_of_erasing_is_sent_blank_bytes(self) -> None:
        board = BOARDS[BOARD]
        unit = Catalogue.load().find(board.chip).speaking("doorstep").first.flash.units_touched(0x400, 1)[0]
        trial = run(BOARD, purpose="erase", region=("flash", unit.address, 2 * unit.size))
        self.assertTrue(trial.end.green, trial.findings)
        self.assertEqual(bytes(trial.line.chip.flash[0x400:0x500]), b"\xff" * 256)
        self.assertNotEqual(bytes(trial.line.chip.flash[0x380:0x400]), b"\xff" * 128)


class Making(unittest.TestCase):
    def facts(self, chip: str, **values: object) -> tuple[Facts, bytes]:
        """What the loader will tell, and the board's own bytes behind that."""
        usual: dict[str, object] = {"clock": 16e6, "baud": 115200, "wait_s": 1.5}
        made = make(Catalogue.load().find(chip).first, LoaderValues(**{**usual, **values}))  # type: ignore[arg-type]
        data = made.image.pieces[0].data
        self.assertEqual(len(data), made.loader.room)
        self.assertEqual(data[: -made.loader.facts], made.loader.data[: -made.loader.facts])
        told = data[-made.loader.facts :]
        return facts_of(b"\x02" + told[:38] + bytes(16)), told[38:]

    def test_every_chip_gets_a_loader_that_tells_what_the_catalogue_has(self) -> None:
        for chip in loaders_known():
            with self.subTest(chip):
                part = Catalogue.load().find(chip).first.speaking("doorstep")
                facts, _ = self.facts(chip)
                self.assertEqual((facts.top, facts.region), (part.flash.size, part.flash.usable))
                self.assertEqual(facts.part, part.ident)
                self.assertEqual((facts.baud, facts.wait_s), (115200, 1.5))

    def test_clock_rate_and_time_of_an_avr(self) -> None:
        facts, own = self.facts("atmega328p", clock=8e6, baud=38400, wait_s=60.0, pin="PD4")
        self.assertEqual(
            (facts.clock, facts.rate_base, facts.baud, facts.wait_s), (8_000_000, 1_000_000, 38400, 60.0)
        )
        self.assertEqual(int.from_bytes(own[:2], "big"), 25)
        divider = (0, 1, 8, 64, 256, 1024)[own[2]]
        self.assertAlmostEqual(own[3] * 65536 * divider / 8e6, 60, delta=0.6)
        self.assertEqual(own[4:6], bytes([0x29, 1 << 4]))

    def test_pins_of_a_sam(self) -> None:
        _, own = self.facts("samd21g18", tx="PB22", rx="PB23", pin="PA15")
        self.assertEqual(own[6:10], bytes([54, 55, 15, 3]))
        self.assertEqual(int.from_bytes(own[10:14], "little"), 0x42001C00)
        self.assertEqual(int.from_bytes(own[14:18], "little"), 0x40310004)

    def test_what_cannot_be_is_said(self) -> None:
        for chip, values, key in (
            ("atmega328p", {"clock": None}, "loader-clock"),
            ("atmega328p", {"clock": 1e6}, "loader-rate"),
            ("atmega328p", {"tx": "PD1"}, "loader-pin"),
            ("atmega328p", {"pin": "P0.3"}, "loader-pin"),
            ("atmega328p", {"wait_s": 61.0}, "loader-wait"),
            ("nrf51822", {"tx": "P0.40"}, "loader-pin"),
            ("samd21g18", {"tx": "PA10", "rx": "PB02"}, "loader-pin"),
            ("samd21g18", {"tx": "PA11", "rx": "PA10"}, "loader-pin"),
            ("pic18f46k22", {"clock": None}, "loader-clock"),
            ("stm32f103c8", {}, "no-loader"),
        ):
            with self.subTest(f"{chip} {values}"), self.assertRaises(UsageFault) as caught:
                self.facts(chip, **values)
            self.assertEqual(caught.exception.finding.key, key)


if __name__ == "__main__":
    unittest.main()
