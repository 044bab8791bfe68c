"""Situations with a Renesas RA."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import Keep, WriteOptions

from .situation import Situation, usual_rows

BOARD, WITH_ID = "ra4m1", "ra6m3"
BOARDS = (BOARD, WITH_ID)
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}
_DATA = IMAGE.pieces[0].data
_SECURED = replace(IMAGE, pieces=(Piece(0, _DATA[:0x408] + b"\xfc\xff" + _DATA[0x40A:]),))

ROWS = [
    *usual_rows(BOARD, (3000, 270_000), "smoke fan", "dtr-reset-rts-boot", "low", silence="silence-after=230", restarts_while_it_is_written="fell-silent",
                writing_has_no_effect="not-written"),
    Situation(9, "an STM32 ROM asked as RA", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": BOARD, "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(10, "a chip that it does not name", BOARD, "which-chip", 5, {**UPLOAD, "chip": "ra-boot"}, "ra2a1"),
    Situation(10, "another flash than declared", BOARD, "other-chip", 5,
              {"images": {"flash": sample_for(WITH_ID, 3000)}, "chip": WITH_ID}, "blocks of 2 KiB"),
    Situation(11, "another id code", WITH_ID, "locked", 5, {**GREET, "options": WriteOptions(settings={"id": "00" * 16})}),
    Situation(11, "security settings", BOARD, "would-lock", 5, {"images": {"flash": _SECURED}}, "FC FF"),
    Situation(11, "kept room in the way", BOARD, "keeps", 5, {**UPLOAD, "options": WriteOptions(keep=(Keep(0x200, 0x40),))}, "0200"),
    Situation(11, "a text", BOARD, "vectors", 5,
              {"images": {"flash": Image("fan.bin", (Piece(0, b"this is not a program, it is a letter to the bees."),))}}),
]  # fmt: skip
