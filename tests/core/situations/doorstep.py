"""Situations with boards whose resident loader speaks Doorstep."""

from __future__ import annotations

from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import Keep, WriteOptions

from .situation import Situation, usual_rows

BOARD = "doorstep-atmega328p"
BOARDS = (
    BOARD,
    "doorstep-atmega1284p",
    "doorstep-nrf51822",
    "doorstep-nrf52832",
    "doorstep-samd21g18",
    "doorstep-pic18f46k22",
)
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}

ROWS = [
    *usual_rows(BOARD, (3000, 40_000), "queen lamp", "cap-dtr", silence="silence-after=130",
                restarts_while_it_is_written=""),
    Situation(9, "an STM32 ROM asked as Doorstep", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": "doorstep", "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(10, "another chip than declared", BOARD, "other-chip", 5, {**GREET, "chip": "nrf51822"}, "ATmega328P"),
    Situation(11, "into the loader", BOARD, "hits-bootloader", 5,
              {"images": {"flash": Image("lamp.hex", (*IMAGE.pieces, Piece(0x7C00, bytes(range(200)))))}}, "7B80"),
    Situation(11, "into the seal", BOARD, "hits-bootloader", 5,
              {"images": {"flash": Image("lamp.hex", (*IMAGE.pieces, Piece(0x7B80, bytes(range(100)))))}}, "7B80"),
    Situation(11, "kept room in the way", BOARD, "keeps", 5, {**UPLOAD, "options": WriteOptions(keep=(Keep(0x400, 0x40),))}, "0400"),
]  # fmt: skip
