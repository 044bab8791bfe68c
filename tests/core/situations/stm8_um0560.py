"""Situations with an STM8."""

from __future__ import annotations

from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.plan.write_options import Keep, WriteOptions

from .situation import Situation, usual_rows

BOARD = "stm8s105"
BOARDS = (BOARD, "stm8s208")
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}

ROWS = [
    *usual_rows(BOARD, (3000, 33_000), "frame lift", "cap-dtr", silence="silence-after=380", restart="restart-every=1900",
                writing_has_no_effect="not-written",
                worn="worn=0x8123 worn=0x83F0 worn=0x8801"),
    Situation(9, "an STM32 asked as STM8", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": "stm8s105x6", "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(10, "a chip that it does not name", BOARD, "which-chip", 5, {**UPLOAD, "chip": "stm8"}, "stm8s105x4"),
    Situation(11, "no routines", BOARD, "needs-routines", 5, {**UPLOAD, "options": WriteOptions()}, "reads, writes RAM and goes"),
    Situation(11, "kept room in the way", BOARD, "keeps", 5, {**UPLOAD, "options": WriteOptions(keep=(Keep(0x8200, 0x40),))}, "8200"),
]  # fmt: skip
