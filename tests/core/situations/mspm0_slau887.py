"""Situations with an MSPM0."""

from __future__ import annotations

from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import Keep, WriteOptions

from .situation import Situation, usual_rows

BOARD, WITH_PASSWORD = "mspm0l1306", "mspm0g3507"
BOARDS = (BOARD, WITH_PASSWORD)
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}

ROWS = [
    *usual_rows(BOARD, (3000, 70_000), "smoke fan", "dtr-reset-rts-boot", "high", silence="silence-after=180",
                writing_has_no_effect="not-written", the_program_runs_by_hand=""),
    Situation(9, "a radio chip asked as MSPM0", "cc2650", "other-dialect", 4,
              {**GREET, "chip": BOARD, "hookup": named_hookup("dtr-reset-rts-boot", "low")}, "00 CC"),
    Situation(10, "a chip that it does not name", BOARD, "which-chip", 5, {**UPLOAD, "chip": "mspm0"}, "mspm0l1105"),
    Situation(11, "another password", WITH_PASSWORD, "locked", 5,
              {"images": {"flash": sample_for(WITH_PASSWORD, 900)}, "options": WriteOptions(settings={"password": "00" * 32})}),
    Situation(11, "kept room in the way", BOARD, "keeps", 5, {**UPLOAD, "options": WriteOptions(keep=(Keep(0x200, 0x40),))}, "0200"),
    Situation(11, "a text", BOARD, "vectors", 5,
              {"images": {"flash": Image("fan.bin", (Piece(0, b"this is not a program, it is a letter to the bees."),))}}),
]  # fmt: skip
