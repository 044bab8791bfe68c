"""What holds for every dialect and every simulated chip: green is what is in the chip, and names the place."""

from __future__ import annotations

import unittest

from greenstep.bench.boards import BOARDS
from greenstep.bench.trial import Trial, run, sample_for
from greenstep.core.image import Image

from .test_every_dialect import KINDS

_BYTES = 1337
"""No whole number of any chip's pages or blocks, so that the last one is filled."""
_BEHIND = (0, 1, 5, 33, 120, 500)
_WITHIN = (0, 335, _BYTES - 1)


def upload(board: str, image: Image, *faults: str) -> Trial:
    return run(board, {"flash": image}, faults)


def content(trial: Trial) -> bytes:
    return bytes(trial.line.chip.flash)


class OneByte(unittest.TestCase):
    def test_a_byte_that_does_not_hold_what_was_written_is_never_green(self) -> None:
        """Of the image, and of what is written along with it to fill pages and blocks: whichever of them the chip
        programs."""
        filled: set[str] = set()
        for board in KINDS:
            image = sample_for(board, _BYTES)
            clean = content(upload(board, image))
            held = BOARDS[board].held(image)
            end = held.pieces[-1].end
            for place in [held.lowest + n for n in _WITHIN] + [end + n for n in _BEHIND]:
                with self.subTest(board, place=f"{place:08X}"):
                    trial = upload(board, image, f"worn={place}")
                    at = place - trial.line.chip.base
                    spoilt = at < len(clean) and content(trial)[at] != clean[at]
                    self.assertFalse((spoilt or place < end) and trial.end.exit_code == 0 and trial.end.green)
                    filled |= {board} if spoilt and place >= end else set()
        self.assertGreater(len(filled), len(KINDS) // 2, "chips that fill pages or blocks")
