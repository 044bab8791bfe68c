"""Situations with an LPC in its ROM bootloader."""

from __future__ import annotations

from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import WriteOptions

from .situation import Situation, usual_rows

BOARD = "lpc1769"
BOARDS = ("lpc1769", "lpc1114", "lpc812", "lpc845", "lpc4357")
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}


def protected(word: int) -> dict[str, Any]:
    """An image that turns code read protection on."""
    data = bytearray(IMAGE.pieces[0].data)
    data[0x2FC:0x300] = word.to_bytes(4, "little")
    return {"images": {"flash": Image("counter.hex", (Piece(0, bytes(data)),))}}


ROWS = [
    *usual_rows(BOARD, (3000, 530_000), "entrance counter", "dtr-reset-rts-boot", "low", an_LPC_asked_before="", restarts_while_it_is_written="",
                silence="silence-after=230", worn="worn=0x123 worn=0x3F0 worn=0x801", writing_has_no_effect="not-written"),
    Situation(9, "an STM32 ROM asked as LPC", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": BOARD, "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(10, "another chip than declared", BOARD, "other-chip", 5, {**UPLOAD, "chip": "lpc1768"}, "LPC1769 answered"),
    Situation(10, "locked", BOARD, "locked", 5, {**UPLOAD, "faults": ("locked",)}, "return code 19"),
    Situation(11, "would lock", BOARD, "would-lock", 5, protected(0x12345678), "CRP1"),
    Situation(11, "would lock for good", BOARD, "would-lock", 5,
              {**protected(0x43218765), "options": WriteOptions(even_if=frozenset({"protection"}))}, "for good: CRP3"),
    Situation(11, "the stack is not in RAM", BOARD, "vectors", 5,
              {"images": {"flash": Image("counter.bin", (Piece(0, bytes(range(64)) * 8),))}}, "not in RAM"),
    Situation(13, "plain data damaged too often", "lpc812", "not-written", 7,
              {"images": {"flash": sample_for("lpc812", 3000)}, "faults": ("dead-write",)}, ""),
]  # fmt: skip
