"""Situations with a P8X32A."""

from __future__ import annotations

from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece

from .situation import Situation, usual_rows

BOARD = "p8x32a"
BOARDS = (BOARD, "p8x32a-eeprom")
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}

ROWS = [
    *usual_rows(BOARD, (3000, 33_000), "feeder pump", "cap-dtr", silence="silence-after=258",
                writing_has_no_effect="", worn_cells=""),
    Situation(9, "an STM32 asked as Propeller", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": BOARD, "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(10, "another Propeller", "p2x8c4m64p", "other-dialect", 4, {**GREET, "chip": BOARD}, "Propeller 2"),
    Situation(11, "a sum that is not a program's", BOARD, "vectors", 5,
              {"images": {"flash": Image("pump.bin", (Piece(0, bytes(range(200))),))}}, "its check byte"),
    Situation(13, "an EEPROM that takes nothing", "p8x32a-eeprom", "refused-data", 6,
              {**UPLOAD, "faults": ("dead-write",)}, "EEPROM's content"),
    Situation(11, "what is in RAM is not read", BOARD, "cannot-backup", 5, {"purpose": "backup"}),
]  # fmt: skip
