"""Situations with MSP430 5xx and FR parts."""

from __future__ import annotations

from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import WriteOptions

from .situation import Situation, usual_rows

BOARD, FRAM = "msp430f5438a", "msp430fr5969"
BOARDS = (BOARD, FRAM)
IMAGE = sample_for(BOARD, 1500)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}
OFF = sample_for(FRAM, 1500)
SHUT = Image("gauge.txt", (OFF.pieces[0], Piece(0xFF84, b"\x55" * 4), OFF.pieces[1]))
WRONG = WriteOptions(settings={"password": "00" * 32})

ROWS = [
    *usual_rows(BOARD, (1500, 270_000), "rain gauge", "rts-reset-dtr-boot", "high", silence="silence-after=60",
                restart="restart-every=400", restarts_while_it_is_written="fell-silent", the_program_runs_by_hand="",
                writing_has_no_effect="not-written", worn="worn=0x5D23 worn=0x5FF0"),
    Situation(9, "an STM32 asked as MSP430", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": BOARD, "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(9, "an older MSP430", "msp430g2553", "other-dialect", 4, {**GREET, "chip": BOARD}, "MSP430 bootstrap loader"),
    Situation(10, "a chip that it does not name", BOARD, "which-chip", 5, {**UPLOAD, "chip": "msp430-slau550"}, "msp430f5418a"),
    Situation(11, "another password", BOARD, "password-erased", 6, {**UPLOAD, "purpose": "verify", "options": WRONG}, "password error"),
    Situation(11, "it would shut the loader off", FRAM, "would-lock", 5, {"images": {"flash": SHUT}}, "FF84 holds 55 55"),
]  # fmt: skip
