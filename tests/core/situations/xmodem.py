"""Situations with a resident bootloader that takes XMODEM."""

from __future__ import annotations

from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import TalkLine, WriteOptions

from .situation import Situation, usual_rows

BOARD = "smoke-fan"
BOARDS = ("smoke-fan", "xmodem-sum", "xmodem-crc", "ymodem")
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}


def told(*turns: TalkLine) -> dict[str, Any]:
    return {**GREET, "options": WriteOptions(settings={"opening": turns})}


def cancels(line: Any) -> None:
    """A receiver that has had enough in the middle."""
    chip, blocks = line.chip, []
    block = chip._block

    def counted(first: int, number: int) -> Any:
        blocks.append(number)
        data = yield from block(first, number)
        return b"" if len(blocks) == 2 else data

    chip._block = counted


ROWS = [
    *usual_rows(BOARD, (3000, 5_000), "smoke fan", "dtr-reset-rts-boot", "high", joined="", too_large="", writing_has_no_effect="",
                worn_cells="", silence="silence-after=44", restart="restart-after=1500", no_reset_by_the_lines="", an_XMODEM_receiver=""),
    Situation(4, "TX and RX joined", BOARD, "echo", 4, {**told(TalkLine(send="up\r")), "faults": ("echo",)}),
    Situation(5, "another menu text than expected", BOARD, "application", 4, told(TalkLine("press 1", 1.0, "1")), "u uploads"),
    Situation(9, "an STM32 ROM", "stm32f072", "other-dialect", 4, {**GREET, "chip": "any", "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(10, "the receiver cancels", BOARD, "refused-data", 6, UPLOAD, "18 18", cancels),
    Situation(11, "no chip of that name on this dialect", BOARD, "no-such-memory", 5,
              {"images": {"flash": IMAGE, "eeprom": Image("settings.bin", (Piece(0, b"fan 40 %"),))}}),
    Situation(13, "the flash takes nothing", BOARD, "other-text", 8,
              {**UPLOAD, "faults": ("dead-write",), "expect": "smoke fan 0.9", "expect_within_s": 1.0}),
    Situation(14, "nothing is said after", BOARD, "other-text", 8,
              {**UPLOAD, "options": WriteOptions(settings={"opening": (TalkLine("u uploads", 5.0, "u"),)}), "expect": "smoke fan", "expect_within_s": 1.0},
              "loader 1.2"),
    Situation(15, "the menu was over before", BOARD, "application", 4,
              {**GREET, "patience_s": 1.0, "link_options": {"on_for_s": 2.95, "has_lines": False}}, "smoke fan"),
]  # fmt: skip
