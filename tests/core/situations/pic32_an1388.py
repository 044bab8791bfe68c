"""Situations with a PIC32."""

from __future__ import annotations

from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import Keep, WriteOptions

from .situation import Situation, usual_rows

BOARD = "pic32mx795f512"
BOARDS = (BOARD, "pic32mz2048efh")
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}

ROWS = [
    *usual_rows(BOARD, (3000, 520_000), "feeder pump", "dtr-reset-rts-boot", "low", silence="silence-after=42",
                writing_has_no_effect="other-image", worn_cells="other-image", worn="worn=0x1D006123 worn=0x1D0063F0",
                restarts_while_it_is_written=""),
    Situation(9, "an STM32 ROM asked as a PIC32", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": BOARD, "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(10, "a chip that it does not name", BOARD, "which-chip", 5, {**UPLOAD, "chip": "pic32-an1388"}, "pic32mx170f256"),
    Situation(11, "into the bootloader", BOARD, "hits-bootloader", 5,
              {"images": {"flash": Image("pump.hex", (Piece(0x1D001000, bytes(range(1, 200))),))}}, "1D001000"),
    Situation(11, "kept room in the way", BOARD, "keeps", 5, {**UPLOAD, "options": WriteOptions(keep=(Keep(0x1D006400, 0x40),))}, "1D006400"),
]  # fmt: skip
