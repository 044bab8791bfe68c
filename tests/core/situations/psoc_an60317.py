"""Situations with a PSoC."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Piece

from .situation import Situation, usual_rows

BOARD, FIVE = "cy8c4245", "cy8c5888"
BOARDS = (BOARD, FIVE)
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}

ROWS = [
    *usual_rows(BOARD, (3000, 33_000), "smoke fan", "cap-dtr", silence="silence-after=140", writing_has_no_effect="",
                worn_cells=""),
    Situation(9, "an STM32 asked as PSoC", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": BOARD, "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(10, "a chip that it does not name", BOARD, "which-chip", 5, {**UPLOAD, "chip": "psoc"}, "cy8c4124"),
    Situation(10, "a file for another silicon", BOARD, "other-chip", 5,
              {"images": {"flash": replace(IMAGE, header="04A61193 11 00")}}, "the chip has 04C81193"),
    Situation(11, "no file of rows", BOARD, "not-signed", 5, {"images": {"flash": replace(IMAGE, format="Intel HEX")}}, ".cyacd"),
    Situation(11, "a row of the loader's", BOARD, "hits-bootloader", 5,
              {"images": {"flash": replace(IMAGE, pieces=(Piece(39 * 128, bytes(128)), *IMAGE.pieces[1:]))}}, "row 39 of array 0"),
    Situation(13, "writing has no effect", BOARD, "refused-data", 6, {**UPLOAD, "faults": ("dead-write",)}, "the row's sum is"),
    Situation(13, "a worn cell", BOARD, "refused-data", 6, {**UPLOAD, "faults": ("worn=0x1523",)}, "the row's sum is"),
]  # fmt: skip
