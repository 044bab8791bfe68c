"""Situations with the serial bootloader of an nRF5 board."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup

from .situation import Situation, usual_rows

BOARD = "nrf52832"
IMAGE = sample_for(BOARD, 6000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}
OTHER = sample_for(BOARD, 6000, seed=4)

ROWS = [
    *usual_rows(BOARD, (6000, 2_100_000), "brood probe", "dtr-reset-rts-boot", "low", silence="silence-after=90",
                writing_has_no_effect="", worn_cells="", restart="restart-after=4000"),
    Situation(9, "an STM32 asked as nRF5", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": "nrf52832", "dialect_name": "nrf5-dfu",
               "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(10, "the packet of another program", BOARD, "refused-data", 6,
              {"images": {"flash": replace(IMAGE, header=OTHER.header)}}, "the hash is not right"),
    Situation(11, "no package", BOARD, "not-signed", 5, {"images": {"flash": replace(IMAGE, format="Intel HEX")}}, "a zip"),
    Situation(13, "what was written is not right", BOARD, "refused-data", 6, {**UPLOAD, "faults": ("dead-write",)}, "hash"),
]  # fmt: skip
