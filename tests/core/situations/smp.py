"""Situations with boards that speak SMP."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece

from .situation import Situation, usual_rows

BOARD, PROGRAM = "nrf5340", "nrf52840"
BOARDS = (BOARD, PROGRAM)
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}
_DATA = IMAGE.pieces[0].data


def other(data: bytes) -> dict[str, Any]:
    return {"images": {"flash": replace(IMAGE, pieces=(Piece(0, data),))}}


def never_swaps(line: Any) -> None:
    """A bootloader that does not take the new image: it has another key."""
    line.chip._mark = lambda values: {"rc": 0, "images": line.chip._images()}


ROWS = [
    *usual_rows(BOARD, (3000, 2_200_000), "apiary gateway", "dtr-reset-rts-boot", "low", silence="silence-after=600",
                writing_has_no_effect="other-image", worn_cells="other-image"),
    Situation(9, "an STM32 ROM asked as SMP", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": BOARD, "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(10, "a chip that it does not name", BOARD, "which-chip", 5, {**UPLOAD, "chip": "smp-boards"}, "nrf52810"),
    Situation(11, "not signed", BOARD, "not-signed", 5,
              {"images": {"flash": Image("gateway.bin", (Piece(0, bytes(range(1, 200)) * 9),))}}, "3D B8 F3 96"),
    Situation(11, "cut short", BOARD, "not-signed", 5, other(_DATA[:-30]), "the file to"),
    Situation(11, "changed after it was signed", BOARD, "not-signed", 5, other(_DATA[:900] + b"\x00" + _DATA[901:])),
    Situation(14, "another key", PROGRAM, "not-swapped", 8,
              {"images": {"flash": sample_for(PROGRAM, 3000)}}, "slot 0: version 1.99.0", never_swaps),
]  # fmt: skip
