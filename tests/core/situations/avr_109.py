"""Situations with an AVR109 bootloader: on a UART, and on a board that is its own USB device."""

from __future__ import annotations

from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import Keep, WriteOptions

from .situation import Situation, talks_every, usual_rows

BOARD = "at90usb1286"
BOARDS = ("atmega32u4", "at90usb1286")
USB = "atmega32u4"
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}

ROWS = [
    *usual_rows(BOARD, (3000, 140_000), "hive scale", "cap-dtr", silence="silence-after=33", writing_has_no_effect="not-written"),
    Situation(5, "the hang-up is not heeded", USB, "application", 4, {**GREET, "faults": ("no-boot",), "link_options": {"on_for_s": 9.0}},
              "hive scale", talks_every(1.0, b"hive scale 2.3: 41.3 kg\r\n")),
    Situation(3, "nothing after the hang-up", USB, "silence-lines", 4, {**GREET, "faults": ("dead",)}, "nothing heard"),
    Situation(9, "an STM32 ROM asked as AVR109", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": BOARD, "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(10, "another chip than declared", USB, "other-chip", 5, {"images": {"flash": sample_for(USB, 3000)}, "chip": "atmega16u4"},
              "ATmega32U4 answered"),
    Situation(11, "into the bootloader", USB, "hits-bootloader", 5, {"images": {"flash": sample_for(USB, 28_700)}}, "7000"),
    Situation(11, "kept room in the way", BOARD, "keeps", 5, {**UPLOAD, "options": WriteOptions(keep=(Keep(0x100, 0x100),))}, "0100-01FF"),
    Situation(11, "a text", BOARD, "vectors", 5,
              {"images": {"flash": Image("scale.bin", (Piece(0, b"this is not a program, it is a letter to the bees."),))}}, "text"),
]  # fmt: skip
