"""Situations with a PIC18 whose bootloader stands at the end."""

from __future__ import annotations

from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import Keep, WriteOptions

from .situation import Situation, usual_rows

BOARD = "pic18f46k22"
BOARDS = ("pic18f46k22", "pic18f67j50")
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}

ROWS = [
    *usual_rows(BOARD, (3000, 70_000), "feeder pump", "cap-dtr", writing_has_no_effect="", silence="silence-after=90",
                restarts_while_it_is_written=""),
    Situation(13, "writing has no effect", BOARD, "not-written", 6, {**UPLOAD, "faults": ("dead-write",)}, "without doing it"),
    Situation(9, "an STM32 ROM asked as AN1310", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": BOARD, "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(10, "a chip that it does not name", BOARD, "which-chip", 5, {**UPLOAD, "chip": "pic18"}, "pic18f252"),
    Situation(11, "into the bootloader", BOARD, "hits-bootloader", 5, {"images": {"flash": sample_for(BOARD, 64_600)}}, "FC00"),
    Situation(11, "no jump at 0", BOARD, "vectors", 5,
              {"images": {"flash": Image("pump.bin", (Piece(0, bytes(range(16, 80))),))}}, "first two words"),
    Situation(11, "kept room in the way", BOARD, "keeps", 5, {**UPLOAD, "options": WriteOptions(keep=(Keep(0x400, 0x40),))}, "0400"),
]  # fmt: skip
