"""Situations with an RP2350."""

from __future__ import annotations

from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece

from .situation import Situation, usual_rows

BOARD = "rp2350"
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}

ROWS = [
    *usual_rows(BOARD, (3000, 540_000), "apiary gateway", "dtr-reset-rts-boot", "low",
                silence="silence-after=40", restarts_while_it_is_written="fell-silent", the_program_runs_by_hand="",
                writing_has_no_effect="verify-differs", worn="worn=0x20000123 worn=0x200003F0 worn=0x20000801"),
    Situation(9, "an STM32 asked as RP2350", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": BOARD, "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(10, "two chips that it does not name", BOARD, "which-chip", 5, {**UPLOAD, "chip": "rp235x"}, "rp2354"),
    Situation(11, "no image definition", BOARD, "vectors", 5,
              {"images": {"flash": Image("gateway.bin", (Piece(0x20000000, bytes(range(256)) * 4),))}}, "D3 DE FF FF"),
    Situation(11, "what is in RAM is not verified later", BOARD, "cannot-verify", 5, {**UPLOAD, "purpose": "verify"}),
]  # fmt: skip
