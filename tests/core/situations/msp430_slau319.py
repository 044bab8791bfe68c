"""Situations with an MSP430G2553."""

from __future__ import annotations

from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import Keep, WriteOptions

from .situation import Situation, usual_rows

BOARD = "msp430g2553"
IMAGE = sample_for(BOARD, 1500)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}
SHUT = Image("gauge.txt", (*IMAGE.pieces[:1], Piece(0xFFDE, b"\x55\xaa" + IMAGE.pieces[1].data)))

ROWS = [
    *usual_rows(BOARD, (1500, 17_000), "rain gauge", "dtr-reset-rts-boot", "high", silence="silence-after=55",
                restart="restart-every=400", restarts_while_it_is_written="fell-silent", the_program_runs_by_hand="",
                writing_has_no_effect="not-written", worn="worn=0xC123 worn=0xC3F0"),
    Situation(9, "an STM32 asked as MSP430", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": BOARD, "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(10, "another MSP430", BOARD, "other-chip", 5, {**GREET, "chip": "msp430f2274"}, "2553"),
    Situation(11, "no password to verify with", BOARD, "locked", 5, {**UPLOAD, "purpose": "verify"}, "no password was given"),
    Situation(11, "it would shut the loader off", BOARD, "would-lock", 5, {"images": {"flash": SHUT}}, "FFDE holds 55 AA"),
    Situation(11, "kept room in the way", BOARD, "keeps", 5, {**UPLOAD, "options": WriteOptions(keep=(Keep(0xC200, 0x40),))}, "C200"),
    Situation(11, "a password of the wrong length", BOARD, "setting", 5,
              {**UPLOAD, "options": WriteOptions(settings={"password": "FFFF"})}, "FFFF"),
]  # fmt: skip
