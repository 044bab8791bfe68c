"""Situations with a large AVR board."""

from __future__ import annotations

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import Keep, WriteOptions

from .situation import Situation, usual_rows

BOARD = "atmega2560"
BOARDS = ("atmega2560", "atmega1280")
IMAGE = sample_for(BOARD, 3000)

ROWS = [
    *usual_rows(BOARD, (3000, 270000), "frame lift", "cap-dtr", silence="silence-after=410"),
    Situation(10, "another chip than declared", BOARD, "other-chip", 5, {"images": {"flash": IMAGE}, "chip": "atmega2561"},
              "ATmega2560 answered"),
    Situation(11, "into the bootloader", BOARD, "hits-bootloader", 5, {"images": {"flash": sample_for(BOARD, 254200)}}, "3E000"),
    Situation(11, "kept room in the way", BOARD, "keeps", 5,
              {"images": {"flash": IMAGE}, "options": WriteOptions(keep=(Keep(0x100, 0x80),))}, "0100-017F"),
    Situation(11, "a text", BOARD, "vectors", 5,
              {"images": {"flash": Image("lift.bin", (Piece(0, b"this is not a program, it is a letter to the bees."),))}}, "text"),
    Situation(9, "an STM32 ROM asked as AVR068", "stm32f072", "other-dialect", 4, {"purpose": "greet", "chip": BOARD, "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
]  # fmt: skip
