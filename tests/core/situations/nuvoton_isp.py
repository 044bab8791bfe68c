"""Situations with a NuMicro."""

from __future__ import annotations

from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import Keep, WriteOptions

from .situation import Situation, usual_rows

BOARD = "m0518"
BOARDS = (BOARD, "m480")
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}

ROWS = [
    *usual_rows(BOARD, (3000, 70_000), "smoke fan", "cap-dtr", silence="silence-after=400",
                writing_has_no_effect="", worn_cells=""),
    Situation(9, "an STM32 ROM asked as NuMicro", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": BOARD, "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(10, "a chip that it does not name", BOARD, "which-chip", 5, {**UPLOAD, "chip": "numicro"}, "m0516"),
    Situation(11, "kept room in the way", BOARD, "keeps", 5, {**UPLOAD, "options": WriteOptions(keep=(Keep(0x400, 0x40),))}, "0400"),
    Situation(11, "a text", BOARD, "vectors", 5,
              {"images": {"flash": Image("fan.bin", (Piece(0, b"this is not a program, it is a letter to the bees."),))}}),
    Situation(13, "the flash takes nothing", BOARD, "refused-data", 6, {**UPLOAD, "faults": ("dead-write",)}, "the sum"),
]  # fmt: skip
