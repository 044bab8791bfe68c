"""Situations with a radio chip of TI."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import Keep, WriteOptions

from .situation import Situation, usual_rows

BOARD = "cc2650"
BOARDS = ("cc2650", "cc2652p", "cc2538")
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}


def shut(board: str, place: int, value: bytes) -> dict[str, Any]:
    """A program whose configuration has other bytes at a place."""
    image = sample_for(board, 3000)
    code, config = image.pieces
    at = place - config.address
    data = config.data[:at] + value + config.data[at + len(value) :]
    return {"images": {"flash": replace(image, pieces=(code, Piece(config.address, data)))}}


ROWS = [
    *usual_rows(BOARD, (3000, 140_000), "smoke fan", "dtr-reset-rts-boot", "low", silence="silence-after=390",
                writing_has_no_effect="not-written", restarts_while_it_is_written="fell-silent"),
    Situation(9, "a Tiva C asked as a radio chip", "tm4c123", "other-dialect", 4,
              {**GREET, "chip": BOARD, "hookup": named_hookup("dtr-reset-rts-boot", "low")}, "00 CC"),
    Situation(10, "another generation", BOARD, "other-chip", 5, {**UPLOAD, "chip": "cc2652p"}, "32 sectors"),
    Situation(11, "the loader would be shut off", BOARD, "would-lock", 5, shut(BOARD, 0x1FFD8, b"\x00"), "0001FFD8"),
    Situation(11, "its pin would be shut off", BOARD, "would-lock", 5, shut(BOARD, 0x1FFDB, b"\xff"), "FFFE0FC5"),
    Situation(11, "the same of a CC2538", "cc2538", "would-lock", 5, shut("cc2538", 0x27FFD7, b"\xe6"), "0027FFD7"),
    Situation(11, "kept room in the way", BOARD, "keeps", 5, {**UPLOAD, "options": WriteOptions(keep=(Keep(0x400, 0x40),))}, "0400"),
    Situation(11, "a text", BOARD, "vectors", 5,
              {"images": {"flash": Image("fan.bin", (Piece(0, b"this is not a program, it is a letter to the bees."),))}}),
]  # fmt: skip
