"""Situations with a P2X8C4M64P."""

from __future__ import annotations

from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup

from .situation import Situation, usual_rows

BOARD = "p2x8c4m64p"
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}

ROWS = [
    *usual_rows(BOARD, (3000, 530_000), "feeder pump", "cap-dtr", silence="silence-after=14",
                writing_has_no_effect="", worn_cells=""),
    Situation(9, "an STM32 asked as Propeller", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": BOARD, "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(10, "another Propeller", "p8x32a", "other-dialect", 4, {**GREET, "chip": BOARD}, "Propeller 1"),
    Situation(13, "RAM that takes nothing", BOARD, "refused-data", 6, {**UPLOAD, "faults": ("dead-write",)}, "the sum is not right"),
    Situation(13, "a worn cell", BOARD, "refused-data", 6, {**UPLOAD, "faults": ("worn=0x123",)}, "the sum is not right"),
    Situation(11, "what is in RAM is not erased", BOARD, "cannot-erase", 5, {"purpose": "erase"}),
]  # fmt: skip
