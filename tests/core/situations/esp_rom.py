"""Situations with an ESP in its ROM loader."""

from __future__ import annotations

from typing import Any

from greenstep.bench.trial import sample_for
from greenstep.core.image import Image, Piece

from .situation import Situation, usual_rows

BOARD = "esp32"
BOARDS = ("esp8266", "esp32", "esp32c3")
IMAGE = sample_for(BOARD, 3000)
SMALL = sample_for("esp8266", 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}


def changed(at: int, data: bytes, image: Image = IMAGE) -> dict[str, Any]:
    """An upload of the image with bytes of it changed."""
    pieces = []
    for piece in image.pieces:
        body = bytearray(piece.data)
        if piece.address <= at < piece.end:
            body[at - piece.address : at - piece.address + len(data)] = data
        pieces.append(Piece(piece.address, bytes(body)))
    return {"images": {"flash": Image("gateway.bin", tuple(pieces))}}


ROWS = [
    *usual_rows(BOARD, (3000, 5_000_000), "apiary gateway", "cross-pair", "low", another_text_than_expected="", writing_has_no_effect="not-written", too_large="", silence="silence-after=480", application="boot-pin", said="starts the program",
                an_ESP8266_on_this_port="", an_ESP32_that_waits="", a_program_at_half_the_rate="", an_XMODEM_receiver="",
                an_LPC_asked_before="", worn="worn=0x10123 worn=0x103F0 worn=0x10801"),
    Situation(11, "too large", BOARD, "does-not-fit", 5, {"images": {"flash": Image("pages.bin", (Piece(0x3FF000, bytes(8192)),))}}, "003FFFFF"),
    Situation(11, "larger than its partition", BOARD, "vectors", 5, {"images": {"flash": sample_for(BOARD, 1_100_000)}}, "gateway"),
    Situation(6, "an ESP8266 with its button free", "esp8266", "boot-pin", 4, {"purpose": "greet", "faults": ("no-boot", "clock=1.54")},
              "boot mode:(3,6)"),
    Situation(6, "TX does not reach the chip", BOARD, "one-way", 4, {"purpose": "greet"}, "DOWNLOAD_BOOT",
              lambda line: setattr(line.chip, "receive", lambda at_s, value: None)),
    Situation(7, "a clock of half the rate", BOARD, "wrong-rate", 4, {"purpose": "greet", "faults": ("no-boot", "clock=0.5")}),
    Situation(9, "an AVR asked as ESP", "atmega328p", "other-dialect", 4, {"purpose": "greet", "chip": BOARD}),
    Situation(10, "another chip than declared", BOARD, "other-chip", 5, {"images": {"flash": sample_for("esp32c3", 3000)}, "chip": "esp32c3"},
              "ESP32 answered"),
    Situation(10, "secure download", "esp32c3", "locked", 5, {"images": {"flash": sample_for("esp32c3", 3000)}, "faults": ("locked",)},
              "secure download"),
    Situation(11, "an application without an address", BOARD, "vectors", 5,
              {"images": {"flash": Image("app.bin", (Piece(0, IMAGE.pieces[2].data),))}}, "begins at 1000"),
    Situation(11, "for another chip of the family", BOARD, "vectors", 5, changed(0x100C, b"\x05"), "chip id 5"),
    Situation(11, "a damaged segment", BOARD, "vectors", 5, changed(0x1040, b"\x00\x01\x02"), "checksum is wrong"),
    Situation(11, "for more flash", BOARD, "vectors", 5, {"images": {"flash": sample_for("esp32", 3000)}}, "more flash",
              lambda line: line.chip.__dict__.update(jedec_id=0x154068)),
    Situation(11, "partitions that overlap", BOARD, "vectors", 5, changed(0x8028, b"\x00\x00\x02"), "overlap"),
    Situation(14, "another text than expected", BOARD, "other-text", 8, {**UPLOAD, "expect": "not this", "expect_within_s": 1.5}, "SPI_FAST"),
    Situation(14, "the boot pin stays set", BOARD, "rom-text", 8, UPLOAD, "waits for an upload",
              lambda line: setattr(line.chip, "boot", lambda boot_selected: line.chip._loader())),
    Situation(14, "nothing where the ROM looks", BOARD, "rom-text", 8,
              {"images": {"flash": Image("app.bin", (Piece(0x10000, IMAGE.pieces[2].data),))}}, "holds no image",
              lambda line: line.chip.flash.__setitem__(slice(0x1000, 0x1004), b"\xff" * 4)),
]  # fmt: skip
