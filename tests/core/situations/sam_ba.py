"""Situations with SAM chips."""

from __future__ import annotations

from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import Keep, WriteOptions

from .situation import Situation, usual_rows

BOARD = "samd21g18"
BOARDS = (BOARD, "sam3x8e", "sam4s16", "samd51j19")
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}

ROWS = [
    *usual_rows(BOARD, (3000, 270_000), "frame lift", "dtr-reset-rts-boot", "low", silence="silence-after=1500",
                writing_has_no_effect="not-written", worn="worn=0x2123 worn=0x23F0 worn=0x2801", restart="restart-every=2500"),
    Situation(9, "an STM32 asked as SAM", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": BOARD, "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(10, "a chip that it does not name", BOARD, "which-chip", 5, {**UPLOAD, "chip": "sam"}, "samd21e17"),
    Situation(10, "another processor", BOARD, "other-chip", 5, {**GREET, "chip": "samd51j19"}, "Cortex-M0+"),
    Situation(10, "another size of flash", BOARD, "other-chip", 5, {**GREET, "chip": "samd21g17"}, "256 KiB of flash"),
    Situation(11, "into the monitor", BOARD, "hits-bootloader", 5, {"images": {"flash": Image("lift.bin", (Piece(0x1F00, bytes(range(256)) * 4),))}}, "1F00"),
    Situation(11, "kept room in the way", BOARD, "keeps", 5, {**UPLOAD, "options": WriteOptions(keep=(Keep(0x2200, 0x40),))}, "2200"),
]  # fmt: skip
