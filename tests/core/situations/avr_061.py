"""Situations with an AVR board."""

from __future__ import annotations

from typing import Any

from greenstep.bench.person import Hands
from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup, with_sequences
from greenstep.core.image import Image, Piece
from greenstep.core.link import Frame, LineSettings
from greenstep.core.plan.write_options import Keep, WriteOptions

from .situation import Situation, port_rows, talks_every, without_line_ends

BOARD = "atmega328p"
BOARDS = ("atmega328p", "atmega168")
IMAGE = sample_for(BOARD, 3000)
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
GREET: dict[str, Any] = {"purpose": "greet"}
BY_HAND = named_hookup("by-hand", "")


def faulty(*faults: str, **more: Any) -> dict[str, Any]:
    return {**UPLOAD, "faults": faults, **more}


def raw(data: bytes, at: int = 0) -> dict[str, Any]:
    return {"images": {"flash": Image("scale.bin", (Piece(at, data),))}}


def deaf_to_eeprom(line: Any) -> None:
    kind = line.chip.kind
    line.chip.kind = kind.__class__(**{**kind.__dict__, "handles_eeprom": False})
    line.chip.eeprom[:] = bytes(range(256)) * 4


def one_memory(line: Any) -> None:
    """The smallest bootloaders take every page for a flash page."""
    kind = line.chip.kind
    line.chip.kind = kind.__class__(**{**kind.__dict__, "tells_memories_apart": False})


def talk_at(baud: int) -> Any:
    """A board whose loader and application talk at another rate than usual."""

    def arrange(line: Any) -> None:
        kind = line.chip.kind
        line.chip.kind = kind.__class__(**{**kind.__dict__, "baud": baud})
        line.chip.console = LineSettings(baud)

    return arrange


def blank_at(baud: int) -> Any:
    """A new board: a loader at another rate than usual, and nothing to start."""

    def arrange(line: Any) -> None:
        talk_at(baud)(line)
        line.chip.flash[:] = b"\xff" * len(line.chip.flash)

    return arrange


TOO_LONG = with_sequences(named_hookup("cap-dtr", ""), "reset off; wait 50 ms; reset on; wait 3 s", None)

ROWS = [
    *port_rows(BOARD),
    Situation(6, "an ESP8266 on this port", BOARD, "rom-text", 4,
              {**GREET, "faults": ("no-boot", "says=rst cause:2, boot mode:(3,6)")}, "boot mode:(3,6)"),
    Situation(6, "an ESP32 that waits for an upload", BOARD, "rom-text", 4,
              {**GREET, "faults": ("no-boot", "says=rst:0x1 (POWERON_RESET),boot:0x3 (DOWNLOAD_BOOT(UART0))")},
              "waits for an upload"),
    Situation(6, "a ROM that talks at 74880", BOARD, "rom-text", 4,
              {**GREET, "faults": ("no-boot", "console=74880", "says=rst cause:2, boot mode:(3,6) ready")}, "ESP8266"),
    Situation(7, "reads well at the rate it talks at", BOARD, "wrong-rate", 4,
              {**GREET, "faults": ("no-boot", "console=57600")}, "at 57600 8N1 it reads"),
    Situation(9, "an STM32 ROM asked as AVR", "stm32f072", "other-dialect", 4,
              {**GREET, "chip": "atmega328p", "hookup": named_hookup("dtr-reset-rts-boot", "high")}, "STM32 ROM"),
    Situation(9, "an XMODEM receiver", BOARD, "other-dialect", 4,
              {**GREET, "faults": ("no-boot", "says=CCC")}, "XMODEM", without_line_ends),
    Situation(9, "an LPC that was asked before", BOARD, "other-dialect", 4,
              {**GREET, "faults": ("no-boot", "says=Synchronized")}, "LPC"),
    Situation(14, "console at another rate", BOARD, "wrong-rate", 8,
              {**UPLOAD, "faults": ("console=57600",), "expect": "hive scale 2.4", "expect_within_s": 2.0},
              'at 57600 8N1 it reads "hive scale 2.4'),
    Situation(5, "a program that talks now and then, by hand", BOARD, "application", 4,
              {**GREET, "hookup": BY_HAND, "patience_s": 7.0, "link_options": {"on_for_s": 9.0}}, "hive scale 2.3: 41.3 kg",
              talks_every(1.2, b"hive scale 2.3: 41.3 kg\r\n")),
    Situation(15, "a sequence that waits too long", BOARD, "reset-too-early", 4,
              {**GREET, "hookup": TOO_LONG}, "before the first question"),
    Situation(15, "reset pressed, and the loader gave up", BOARD, "reset-too-early", 4,
              {**GREET, "faults": ("no-boot",), "hookup": BY_HAND, "hands": Hands(2.0), "patience_s": 5.0,
               "link_options": {"on_for_s": 30.0}}, "of silence, then"),
    Situation(3, "dead board", BOARD, "silence-lines", 4, {**GREET, "faults": ("dead",)}, "nothing heard"),
    Situation(3, "reset not pressed", BOARD, "silence-by-hand", 4,
              {**GREET, "faults": ("dead",), "hookup": BY_HAND, "patience_s": 2.0}),
    Situation(3, "a port without lines", BOARD, "silence-no-lines", 4,
              {**GREET, "faults": ("dead",), "link_options": {"has_lines": False}, "patience_s": 2.0}),
    Situation(3, "silence after the sync", BOARD, "fell-silent", 4, {**GREET, "faults": ("silence-after=4",)}),
    Situation(4, "TX and RX joined", BOARD, "echo", 4, {**GREET, "faults": ("echo",)}, "30 20"),
    Situation(5, "reset pressed too late", BOARD, "application", 4, faulty("no-boot"), "hive scale 2.3"),
    Situation(5, "application, by hand", BOARD, "application", 4,
              faulty("no-boot", hookup=BY_HAND, patience_s=2.0), "reset was not pressed"),
    Situation(7, "a 57600 baud board asked at 115200", BOARD, "wrong-rate", 4, {}, "0.5 times", talk_at(57600)),
    Situation(7, "a 19200 baud board asked at 115200", BOARD, "wrong-rate", 4, {}, "", talk_at(28800)),
    Situation(7, "a 57600 baud loader, and no program", BOARD, "wrong-rate", 4, GREET, "asked at 57600 8N1 it answered 14 10",
              blank_at(57600)),
    Situation(7, "a 19200 baud loader, and no program", BOARD, "wrong-rate", 4, GREET, "asked at 19200 8N1", blank_at(19200)),
    Situation(7, "a crystal of twice the rate", BOARD, "wrong-rate", 4, {**GREET, "faults": ("clock=2",)}, "2 times"),
    Situation(7, "a prescaler left at four", BOARD, "wrong-rate", 4, {**GREET, "faults": ("clock=0.25",)}, "0.25 times"),
    Situation(7, "an untuned oscillator", BOARD, "wrong-rate", 4, {**GREET, "faults": ("clock=1.08",)}, "1.08"),
    Situation(8, "even parity", BOARD, "wrong-frame", 4,
              {**GREET, "settings": LineSettings(115200, Frame(8, "even", 1))}, "8E1 where this bootloader wants 8N1"),
    Situation(8, "seven bits", BOARD, "wrong-frame", 4,
              {**GREET, "settings": LineSettings(115200, Frame(7, "none", 1))}, "wrong data bits"),
    Situation(10, "another chip than declared", BOARD, "other-chip", 5, {**UPLOAD, "chip": "atmega1284p"},
              "ATmega328P answered"),
    Situation(10, "a clone's signature not allowed", "atmega168", "other-chip", 5,
              {"images": {"flash": sample_for("atmega168", 2000)}, "chip": "atmega328p"}, "1E 94 06"),
    Situation(11, "too large", BOARD, "does-not-fit", 5, {"images": {"flash": sample_for(BOARD, 33000)}}, "32 KiB"),
    Situation(11, "into the bootloader", BOARD, "hits-bootloader", 5,
              {"images": {"flash": sample_for(BOARD, 32400)}}, "7E00"),
    Situation(11, "into a larger bootloader", BOARD, "hits-bootloader", 5,
              {"images": {"flash": sample_for(BOARD, 32000)}, "bootloader_bytes": 2048}, "7800"),
    Situation(11, "a Cortex-M image", BOARD, "vectors", 5, raw(bytes.fromhex("00500020 C1000008") + bytes(64)), "Cortex-M"),
    Situation(11, "a blank reset vector", BOARD, "vectors", 5, raw(bytes([0xFF] * 64)), "blank"),
    Situation(11, "a jump beyond the flash", BOARD, "vectors", 5, raw(b"\x0c\x94\x00\x60" + bytes(64)), "beyond"),
    Situation(11, "a text", BOARD, "vectors", 5, raw(b"this is not a program, it is a letter to the bees."), "text"),
    Situation(11, "kept room in the way", BOARD, "keeps", 5,
              {**UPLOAD, "options": WriteOptions(keep=(Keep(0x100, 0x80),))}, "0100-017F"),
    Situation(
        11,
        "EEPROM that the loader takes for flash",
        BOARD,
        "no-such-memory",
        5,
        {"images": {"flash": IMAGE, "eeprom": Image("settings.bin", (Piece(0, b"hive 7"),))}},
        "shows the flash",
        one_memory,
    ),
    Situation(12, "restarts while it is written", BOARD, "restarted", 6, faulty("restart-every=700"), "hive scale"),
    Situation(12, "silence while it is written", BOARD, "fell-silent", 6, faulty("silence-after=60", compare=False)),
    Situation(13, "writing has no effect", BOARD, "no-effect", 7, faulty("dead-write"), "held before"),
    Situation(13, "worn cells", BOARD, "worn-flash", 7, faulty("worn=0x123", "worn=0x3F0", "worn=0x801"), "0123"),
    Situation(13, "EEPROM is ignored", BOARD, "no-effect", 7,
              {"images": {"eeprom": Image("settings.bin", (Piece(0, b"hive 7, 41.2 kg"),))}}, "held before", deaf_to_eeprom),
    Situation(14, "another text than expected", BOARD, "other-text", 8,
              {**UPLOAD, "expect": "hive scale 3", "expect_within_s": 1.5}, "hive scale 2.4"),
    Situation(14, "silent application", BOARD, "silent-application", 8,
              {"images": {"flash": sample_for(BOARD, 110)}, "expect": "scale", "expect_within_s": 1.0}),
]  # fmt: skip
