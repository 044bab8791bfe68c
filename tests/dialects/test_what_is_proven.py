"""What holds for every dialect and every simulated chip: green is what is in the chip, and names the place."""

from __future__ import annotations

import unittest
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import replace
from itertools import count, islice, product
from types import SimpleNamespace
from typing import Any
from unittest.mock import patch

from greenstep.bench.boards import BOARDS
from greenstep.bench.trial import Trial, prepare, run, sample_for
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.dialect import Dialect
from greenstep.core.dialects.errors import Unexpected
from greenstep.core.engine.chip_state import MOVES, ChipState
from greenstep.core.engine.session import Session
from greenstep.core.events import Noted
from greenstep.core.image import Image, Piece
from greenstep.core.image.granules import Remembered, granules_of
from greenstep.core.plan.write_options import WriteOptions

from ..sample import KINDS, WHOLE, boards, some
from .observed import dialect_of

_BYTES = 1337
"""No whole number of any chip's pages or blocks, so that the last one is filled."""
_FARTHER = (5, 120)
_MOST_EVENTS = 20_000


def upload(board: str, image: Image, *faults: str) -> Trial:
    return run(board, {"flash": image}, faults)


def content(trial: Trial) -> bytes:
    return bytes(trial.line.chip.flash)


class OneByte(unittest.TestCase):
    def test_a_byte_that_does_not_hold_what_was_written_is_never_green(self) -> None:
        """Of the image, and of what is written along with it to fill pages and blocks: whichever of them the chip
        programs."""
        filled: set[str] = set()
        for number, board in enumerate(boards(0)):
            image = sample_for(board, _BYTES)
            clean = content(upload(board, image))
            held = BOARDS[board].held(image)
            end = held.pieces[-1].end
            for place in (end - 1, end, end + _FARTHER[number % 2])[0 if WHOLE else number % 2 :]:
                with self.subTest(board, place=f"{place:08X}"):
                    trial = upload(board, image, f"worn={place}")
                    at = place - trial.line.chip.base
                    spoilt = at < len(clean) and content(trial)[at] != clean[at]
                    self.assertFalse((spoilt or place < end) and trial.end.exit_code == 0 and trial.end.green)
                    filled |= {board} if spoilt and place >= end else set()
        self.assertGreater(len(filled), len(boards(0)) // 2, "chips that fill pages or blocks")


class Behind(unittest.TestCase):
    """One byte was changed behind the tool's back, and the journal has the image as written and proven: what is asked
    for whole rests on no journal and no sample."""

    PLACES = (700, -1)

    def asked(self, board: str, place: int, **options: Any) -> tuple[Trial, Image]:
        """A run on a chip that holds the image but for one byte of it; -1 is its last."""
        image = sample_for(board, _BYTES)
        held = BOARDS[board].held(image)
        runner, trial = prepare(
            board, {"flash": image}, recall=lambda number, chip: Remembered(3, granules_of(image, 0xFF)), **options
        )
        if any(setting.name == "verify" for setting in runner.job.dialect.spec.settings):
            settings = {**runner.job.options.settings, "verify": "whole"}
            runner.job = replace(runner.job, options=replace(runner.job.options, settings=settings))
        chip = trial.line.chip
        for piece in held.pieces:
            chip.flash[piece.address - chip.base : piece.end - chip.base] = piece.data
        end = max(piece.end for piece in image.pieces if piece.end - chip.base <= len(chip.flash))
        chip.flash[(end if place < 0 else image.lowest) + place - chip.base] ^= 0x01
        trial.events.extend(runner.run())
        return trial, image

    def test_verify_is_never_green(self) -> None:
        for board, place in product(boards(1), self.PLACES):
            with self.subTest(board, place=place):
                trial, _ = self.asked(board, place, purpose="verify")
                self.assertFalse(trial.end.exit_code == 0 and trial.end.green)

    def test_upload_writes_it(self) -> None:
        reached = 0
        for board, place in product(boards(2), self.PLACES):
            with self.subTest(board, place=place):
                trial, image = self.asked(board, place)
                if trial.end.exit_code == 4:  # it took what leads to its loader
                    continue
                self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), trial.findings)
                reached += 1
        self.assertGreater(reached, 2 * len(boards(2)) - 5)

    def test_a_place_that_is_not_blank_is_never_called_blank(self) -> None:
        for board in boards(3):
            if dialect_of(board).spec.into_ram:
                continue
            flash = Catalogue.load().find(BOARDS[board].chip).first.flash
            start = flash.units_touched(flash.usable_start + 0x1800, 1)[0].address
            for place in (0, 333, 1023):
                with self.subTest(board, place=place):
                    runner, trial = prepare(board, purpose="verify", region=("flash", start, 1024))
                    runner.job = replace(runner.job, options=replace(runner.job.options, blank=True))
                    trial.line.chip.flash[start + place - trial.line.chip.base] = 0x55
                    trial.events.extend(runner.run())
                    self.assertFalse(trial.end.exit_code == 0 and trial.end.green)


class Legal(unittest.TestCase):
    """Whatever fails after whatever else: a run ends with what is known of the chip, and without a loop."""

    METHODS = ("erase", "write", "read", "checksum_equals")

    def test_every_state_is_left_only_as_its_table_says(self) -> None:
        for before in ChipState:
            for after in ChipState:
                with self.subTest(before=before, after=after):
                    allowed = after is before or after in MOVES[before]
                    session: Any = SimpleNamespace(state=before)
                    if allowed:
                        Session.move_to(session, after)
                        self.assertIs(session.state, after)
                    else:
                        self.assertRaises(AssertionError, Session.move_to, session, after)

    def test_any_two_failures_end_in_words(self) -> None:
        """At any of the first calls of any two methods, with and without a byte that cannot be programmed."""
        for board in some(("atmega328p", "esp32", "stm32f072"), 1):
            image = sample_for(board, _BYTES)
            place = BOARDS[board].held(image).lowest + 700
            for (one, other), number, worn in product(product(self.METHODS, repeat=2), (1, 2), (False, True)):
                with self.subTest(board, one=one, other=other, number=number, worn=worn):
                    runner, trial = prepare(board, {"flash": image}, (f"worn={place}",) if worn else ())
                    with failing(runner.job.dialect, {one: {number}, other: {number, number + 1}}):
                        trial.events.extend(islice(runner.run(), _MOST_EVENTS))
                    self.assertFalse(worn and trial.end.green)
                    self.assertTrue(trial.end.green or trial.findings)
                    self.assertTrue(not trial.end.green or trial.holds(image))

    def test_what_only_reads_wrongly_is_not_written_once_more(self) -> None:
        """Damage on the way to us, after damage on the way to the chip: nothing differs when it is looked for."""
        image = sample_for("rp2350", 2300, seed=5)
        hurt = ("flip-to-host=1020:34", "late-once=743:788", "late-once=1478:30", "drop-to-chip=345",
                "flip-to-host=2320:6F", "flip-to-host=2321:9E", "flip-to-host=2322:B9")  # fmt: skip
        trial = run("rp2350", {"flash": image}, hurt, seed=7128)
        self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), trial.findings)


class Told(unittest.TestCase):
    """A chip that has changed is never called unchanged: by a password that it refuses, by what leads to its loader,
    or where the conversation breaks off."""

    UNTOUCHED = "nothing on the chip was changed"

    def told(self, board: str, *faults: str, **options: Any) -> tuple[Trial, bool]:
        """A run, and whether it has changed the chip."""
        runner, trial = prepare(board, faults=faults, **options)
        before = content(trial)
        trial.events.extend(runner.run())
        return trial, content(trial) != before

    def test_after_an_upload_that_breaks_off(self) -> None:
        for board in boards(4):
            images = {"flash": sample_for(board, 900, seed=3)}
            heard = run(board, images).line.to_host_count
            for share in (0.3, 0.8):
                with self.subTest(board, share=share):
                    trial, changed = self.told(board, f"silence-after={int(heard * share)}", images=images)
                    if changed and trial.end.exit_code:
                        self.assertNotIn(trial.end.chip_state, ("", self.UNTOUCHED))

    def test_after_a_password_that_is_refused(self) -> None:
        erased, wrong = 0, WriteOptions(settings={"password": "0123456789ABCDEF" * 4})
        for board in KINDS:
            if not any(setting.name == "password" for setting in dialect_of(board).spec.settings):
                continue
            for purpose in ("upload", "verify", "backup"):
                images = {} if purpose == "backup" else {"flash": sample_for(board, 900)}
                with self.subTest(board, purpose=purpose):
                    trial, changed = self.told(board, purpose=purpose, images=images, options=wrong)
                    if changed and trial.end.exit_code:
                        self.assertIn("erasing had begun", trial.end.chip_state)
                        erased += 1
        self.assertGreater(erased, 5)

    def test_after_a_greeting(self) -> None:
        for board in boards(0):
            with self.subTest(board):
                trial, changed = self.told(board, purpose="greet")
                said = [event.text for event in trial.events if isinstance(event, Noted)]
                self.assertEqual(changed, any("may have erased the old one" in text for text in said))


class Beside(unittest.TestCase):
    def test_a_part_that_is_restored_leaves_the_rest_of_its_unit(self) -> None:
        """Or it is refused, and nothing is changed."""
        restored = 0
        for board, stand in boards(1).items():
            if dialect_of(board).spec.into_ram:
                continue
            with self.subTest(board):
                start = stand.held(sample_for(board, _BYTES)).lowest + 0x800
                image = Image("saved", (Piece(start, bytes(7 + n % 56 for n in range(104))),))
                runner, trial = prepare(board, {"flash": image}, start=False)
                runner.job = replace(runner.job, options=replace(runner.job.options, as_it_was=True))
                before, at = content(trial), start - trial.line.chip.base
                trial.events.extend(runner.run())
                after = content(trial)
                aside = before[:at] + after[at : at + 104] + before[at + 104 :]
                if board.startswith("doorstep"):  # a seal holds the sum of the whole application
                    self.assertLessEqual(sum(one != other for one, other in zip(after, aside, strict=True)), 4)
                else:
                    self.assertTrue(after == aside, "the rest of its unit")
                wanted = before[at : at + 104] if trial.end.exit_code else image.pieces[0].data
                self.assertEqual(after[at : at + 104], wanted, trial.findings)
                restored += trial.end.exit_code == 0
        self.assertGreater(restored, len(boards(1)) // 2)


class Refused(unittest.TestCase):
    def test_what_lies_outside_of_the_chip_is_refused(self) -> None:
        """Whatever a record does not name: no gap up to it is filled, and nothing of it left out."""
        for board in boards(2):
            with self.subTest(board):
                image = sample_for(board, 900)
                beyond = Piece(0xE0000000, b"honey in the comb")
                runner, trial = prepare(board, {"flash": replace(image, pieces=(*image.pieces, beyond))})
                before = content(trial)
                trial.events.extend(runner.run())
                self.assertEqual((trial.end.exit_code, content(trial) == before), (5, True), trial.findings)


@contextmanager
def failing(dialect: type[Dialect], calls: dict[str, set[int]]) -> Iterator[None]:
    """The methods of a dialect fail at their calls of these numbers, once something on the chip has begun."""
    with ExitStack() as stack:
        for name, numbers in calls.items():
            usual, counted = getattr(dialect, name, None), count(1)
            if usual is None:  # not every loader computes sums
                continue

            def fails(
                *arguments: Any, _usual: Any = usual, _counted: Any = counted, _at: Any = numbers, **more: Any
            ) -> Any:
                if next(_counted) in _at:
                    raise Unexpected("an answer", b"\x00")
                return _usual(*arguments, **more)

            stack.enter_context(patch.object(dialect, name, fails))
        yield


if __name__ == "__main__":
    unittest.main()
