"""Situations with a PIC18 whose bootloader stands at the bottom."""

from __future__ import annotations

from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import Keep, WriteOptions

from .situation import Situation, usual_rows

BOARD = "pic18f4520"
BOARDS = ("pic18f4520", "pic18f4620")
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}

ROWS = [
    *usual_rows(BOARD, (3000, 40_000), "feeder pump", "cap-dtr", writing_has_no_effect="not-written", worn="worn=0x323 worn=0x5F0 worn=0x801",
                silence="silence-after=120", restarts_while_it_is_written=""),
    Situation(9, "an STM32 ROM asked as AN851", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": "pic-an851", "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(10, "a chip that it does not name", BOARD, "which-chip", 5, {**UPLOAD, "chip": "pic-an851"}, "pic18f252"),
    Situation(11, "built for a start at 0", BOARD, "hits-bootloader", 5, {"images": {"flash": sample_for("pic18f46k22", 2000)}}, "below 0200"),
    Situation(11, "a text", BOARD, "vectors", 5,
              {"images": {"flash": Image("pump.bin", (Piece(0x200, b"this is not a program, it is a letter to the bees."),))}}, "no GOTO"),
    Situation(11, "kept room in the way", BOARD, "keeps", 5, {**UPLOAD, "options": WriteOptions(keep=(Keep(0x400, 0x40),))}, "0400"),
]  # fmt: skip
