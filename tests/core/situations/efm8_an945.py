"""Situations with an EFM8."""

from __future__ import annotations

from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.plan.write_options import Keep, WriteOptions

from .situation import Situation, usual_rows

BOARD = "efm8bb1"
BOARDS = (BOARD, "efm8ub2")
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}

ROWS = [
    *usual_rows(BOARD, (3000, 9000), "smoke fan", "dtr-reset-rts-boot", "low", silence="silence-after=30",
                writing_has_no_effect="other-image", worn_cells="other-image", restarts_while_it_is_written=""),
    Situation(9, "an STM32 ROM asked as EFM8", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": BOARD, "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(10, "a chip that it does not name", BOARD, "which-chip", 5, {**UPLOAD, "chip": "efm8"}, "efm8bb10f2"),
    Situation(11, "into the bootloader", BOARD, "hits-bootloader", 5, {"images": {"flash": sample_for(BOARD, 7900)}}, "1E00"),
    Situation(11, "kept room in the way", BOARD, "keeps", 5, {**UPLOAD, "options": WriteOptions(keep=(Keep(0x400, 0x40),))}, "0400"),
]  # fmt: skip
