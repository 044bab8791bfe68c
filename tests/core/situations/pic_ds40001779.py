"""Situations with a PIC18 and a PIC16 that have the unified bootloader."""

from __future__ import annotations

from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import Keep, WriteOptions

from .situation import Situation, usual_rows

BOARD, WORDS = "pic18f26k40", "pic16f1938"
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}

ROWS = [
    *usual_rows(BOARD, (3000, 70_000), "feeder pump", "cap-dtr", silence="silence-after=800", worn="worn=0x523 worn=0x7F0 worn=0x801",
                writing_has_no_effect="not-written", restarts_while_it_is_written=""),
    Situation(9, "an STM32 ROM asked as a PIC18", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": BOARD, "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(10, "a chip that it does not name", BOARD, "which-chip", 5, {**UPLOAD, "chip": "pic-ds40001779"}, "pic16f1454"),
    Situation(11, "into the bootloader", BOARD, "hits-bootloader", 5,
              {"images": {"flash": Image("pump.hex", (Piece(0x200, bytes(range(1, 200)) * 5),))}}, "0200"),
    *usual_rows(WORDS, (3000, 40_000), "feeder pump", "cap-dtr", silence="silence-after=800", worn="worn=0x923 worn=0xBF0 worn=0xC01",
                writing_has_no_effect="not-written", restarts_while_it_is_written=""),
    Situation(11, "a PIC18's program for a PIC16", WORDS, "vectors", 5, {"images": {"flash": Image("pump.hex", (Piece(0x800, sample_for(BOARD, 700).pieces[0].data),))}}, "14 bits"),
    Situation(11, "a PIC16's program into the bootloader", WORDS, "hits-bootloader", 5,
              {"images": {"flash": Image("pump.hex", (Piece(0x400, bytes(range(1, 30)) * 10),))}}, "word 0400"),
    Situation(11, "kept room in the way", BOARD, "keeps", 5, {**UPLOAD, "options": WriteOptions(keep=(Keep(0x800, 0x40),))}, "0800"),
]  # fmt: skip
