"""Situations with NXP's MCU bootloader."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import Keep, WriteOptions

from .situation import Situation, usual_rows

BOARD, KINETIS = "lpc55s69", "mkl27z256"
BOARDS = (BOARD, KINETIS)
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}


def with_field(at: int, value: int) -> dict[str, Any]:
    """A program for a Kinetis with another byte in its configuration field."""
    image = sample_for(KINETIS, 3000)
    data = bytearray(image.pieces[0].data)
    data[0x400 + at] = value
    return {"images": {"flash": replace(image, pieces=(Piece(0, bytes(data)),))}}


ROWS = [
    *usual_rows(BOARD, (3000, 700_000), "smoke fan", "cross-pair", "low", silence="silence-after=200", restart="restart-every=650",
                writing_has_no_effect="not-written"),
    Situation(9, "an STM32 ROM asked as NXP", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": BOARD, "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(10, "another flash than declared", BOARD, "other-chip", 5,
              {"images": {"flash": sample_for(KINETIS, 3000)}, "chip": KINETIS}, "sectors of 512"),
    Situation(10, "a chip that it does not name", BOARD, "which-chip", 5, {**UPLOAD, "chip": "nxp-mcu"}, "mkl03z8"),
    Situation(11, "security is on", KINETIS, "locked", 5, {"images": {"flash": sample_for(KINETIS, 3000)}, "faults": ("locked",)}),
    Situation(11, "it would be secure", KINETIS, "would-lock", 5, with_field(0x0C, 0xFF), "FSEC is FF"),
    Situation(11, "it would be secure for good", KINETIS, "would-lock", 5, with_field(0x0C, 0xEC), "FSEC is EC"),
    Situation(11, "without its ROM", KINETIS, "would-lock", 5, with_field(0x0D, 0x3F), "FOPT is 3F"),
    Situation(11, "nothing in the field", KINETIS, "would-lock", 5,
              {"images": {"flash": replace(IMAGE, pieces=(Piece(0, sample_for(KINETIS, 700).pieces[0].data[:0x3F0]),
                                                         Piece(0x600, bytes(range(1, 100)))))}}, "blank is secure"),
    Situation(11, "kept room in the way", BOARD, "keeps", 5, {**UPLOAD, "options": WriteOptions(keep=(Keep(0x400, 0x40),))}, "0400"),
    Situation(11, "a text", BOARD, "vectors", 5,
              {"images": {"flash": Image("fan.bin", (Piece(0, b"this is not a program, it is a letter to the bees."),))}}),
]  # fmt: skip
