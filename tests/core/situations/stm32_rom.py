"""Situations with a chip in its ROM bootloader."""

from __future__ import annotations

from typing import Any

from greenstep.bench.person import Hands
from greenstep.bench.trial import sample_for
from greenstep.core.hookup.circuits import named_hookup, with_sequences
from greenstep.core.image import Image, Piece
from greenstep.core.link import Frame, LineSettings
from greenstep.core.plan.write_options import Keep, WriteOptions

from .situation import Situation, port_rows, talks_every, without_line_ends

BOARD = "stm32f072"
BOARDS = ("stm32f072", "stm32f103", "stm32l053", "stm32g071", "stm32c031")
IMAGE = sample_for(BOARD, 3000)
F103 = sample_for("stm32f103", 3000)
GREET: dict[str, Any] = {"purpose": "greet"}
UPLOAD: dict[str, Any] = {"images": {"flash": IMAGE}}
BY_HAND = named_hookup("by-hand", "high")
EVEN = Frame(8, "even", 1)


def faulty(*faults: str, **more: Any) -> dict[str, Any]:
    return {**UPLOAD, "faults": faults, **more}


def raw(data: bytes, at: int = 0x08000000) -> dict[str, Any]:
    return {"images": {"flash": Image("probe.bin", (Piece(at, data),))}}


def talk_at(baud: int) -> Any:
    """Boards whose application prints at another rate."""

    def arrange(line: Any) -> None:
        line.chip.console = LineSettings(baud)

    return arrange


def old_half_erased(line: Any) -> None:
    """Erasing is acknowledged and does nothing, as on a flash larger than declared."""
    kept = bytes(line.chip.flash)
    original = line.chip._erase_sectors

    def erase(numbers: list[int]) -> Any:
        result = yield from original(numbers)
        line.chip.flash[:] = kept
        return result

    line.chip._erase_sectors = erase
    line.chip._burn = lambda address, data: line.chip.__class__._burn(line.chip, address, data) or True


def unwilling_after_five_blocks(line: Any) -> None:
    """A chip that refuses the write command itself, in the middle: it is not locked, or nothing were written."""
    burn, blocks = line.chip._burn, []

    def counted(address: int, data: bytes) -> bool:
        blocks.append(address)
        line.chip.locked = len(blocks) == 5
        return bool(burn(address, data))

    line.chip._burn = counted


EARLY = with_sequences(named_hookup("dtr-reset-rts-boot", "high"),
                       "boot on; reset on; wait 50 ms; boot off; wait 5 ms; reset off", None)  # fmt: skip

ROWS = [
    *port_rows(BOARD),
    Situation(5, "boot pin let go before reset rises", BOARD, "application", 4, {**GREET, "hookup": EARLY},
              "5 ms before reset has risen: too early"),
    Situation(5, "a program heard only while it was asked, in our parity", BOARD, "application", 4,
              {**GREET, "hookup": named_hookup("cap-dtr", "")}, "text sent as 8N1"),
    Situation(6, "an ESP32 whose flash is blank", BOARD, "rom-text", 4,
              {**GREET, "faults": ("no-boot", "says=invalid header: 0xffffffff")}, "holds no image"),
    Situation(6, "an ESP32 that runs its program", BOARD, "rom-text", 4,
              {**GREET, "faults": ("no-boot", "says=rst:0x1 (POWERON_RESET),boot:0x13 (SPI_FAST_FLASH_BOOT)")},
              "starts the program"),
    Situation(6, "a ROM that talks at 74880", BOARD, "rom-text", 4,
              {**GREET, "faults": ("no-boot", "console=74880", "says=rst cause:2, boot mode:(1,6) ready")}, "upload"),
    Situation(7, "reads well at the rate it talks at", BOARD, "wrong-rate", 4,
              {**GREET, "faults": ("no-boot", "console=57600")}, "at 57600 8N1 it reads"),
    Situation(9, "an AVR board asked as STM32", "atmega328p", "other-dialect", 4,
              {**GREET, "chip": "stm32f072", "hookup": named_hookup("cap-dtr", "")}, "AVR bootloader, AVR061"),
    Situation(9, "an AVR board, reset by hand", "atmega328p", "other-dialect", 4,
              {**GREET, "chip": "stm32f072", "hookup": BY_HAND, "hands": Hands(0.5), "patience_s": 2.0}, "AVR bootloader, AVR061"),
    Situation(9, "an XMODEM receiver", BOARD, "other-dialect", 4,
              {**GREET, "faults": ("no-boot", "says=CCC")}, "XMODEM", without_line_ends),
    Situation(9, "an LPC that was asked before", BOARD, "other-dialect", 4,
              {**GREET, "faults": ("no-boot", "says=Synchronized")}, "LPC"),
    Situation(5, "a program that talks now and then, by hand", BOARD, "application", 4,
              {**GREET, "hookup": BY_HAND, "patience_s": 7.0, "link_options": {"on_for_s": 9.0}}, "brood probe 1.6: 34.8 C",
              talks_every(1.2, b"brood probe 1.6: 34.8 C\r\n")),
    Situation(15, "reset pressed before the boot pin was set", BOARD, "reset-too-early", 4,
              {**GREET, "hookup": BY_HAND, "hands": Hands(2.0, order_right=False), "patience_s": 5.0,
               "link_options": {"on_for_s": 30.0}}, "of silence, then"),
    Situation(10, "refuses in the middle of writing", BOARD, "refused-command", 6, UPLOAD, "write memory",
              unwilling_after_five_blocks),
    Situation(3, "dead board on lines", BOARD, "silence-lines", 4, {**GREET, "faults": ("dead",)}, "nothing heard"),
    Situation(3, "nobody pressed the buttons", BOARD, "silence-by-hand", 4,
              {**GREET, "faults": ("dead",), "hookup": BY_HAND, "patience_s": 3.0}, "not in its bootloader"),
    Situation(3, "a port without lines", BOARD, "silence-no-lines", 4,
              {**GREET, "faults": ("dead",), "link_options": {"has_lines": False}, "patience_s": 2.0}, "no DTR and RTS"),
    Situation(5, "reset and boot on each other's line", BOARD, "application", 4,
              {**GREET, "hookup": named_hookup("rts-reset-dtr-boot", "high")}, "brood probe 1.6"),
    Situation(3, "silence after the sync", BOARD, "fell-silent", 4, {**GREET, "faults": ("silence-after=1",)}),
    Situation(4, "TX and RX joined", BOARD, "echo", 4, {**GREET, "faults": ("echo",)}, "7F 7F"),
    Situation(4, "echo, entered by hand", BOARD, "echo", 4,
              {**GREET, "faults": ("echo",), "hookup": BY_HAND, "patience_s": 3.0}),
    Situation(5, "jumper forgotten", BOARD, "application", 4, faulty("no-boot"), "brood probe 1.6"),
    Situation(5, "jumper forgotten on an F1", "stm32f103", "application", 4,
              {"images": {"flash": F103}, "faults": ("no-boot",)}, "boot pin was not set"),
    Situation(7, "application heard at a quarter of its rate", BOARD, "wrong-rate", 4, faulty("no-boot"),
              "0.25 times", talk_at(28800)),
    Situation(7, "application heard at half its rate", BOARD, "wrong-rate", 4, faulty("no-boot"), "0.5 times",
              talk_at(57600)),
    Situation(7, "application heard at twice its rate", BOARD, "wrong-rate", 4, faulty("no-boot"), "2 times",
              talk_at(230400)),
    Situation(8, "no parity", BOARD, "wrong-frame", 4, {**GREET, "settings": LineSettings(115200)},
              "8N1 where this bootloader wants 8E1"),
    Situation(8, "odd parity", BOARD, "wrong-frame", 4,
              {**GREET, "settings": LineSettings(115200, Frame(8, "odd", 1))}, "wrong parity"),
    Situation(8, "seven bits", BOARD, "wrong-frame", 4,
              {**GREET, "settings": LineSettings(115200, Frame(7, "even", 1))}, "wrong data bits"),
    Situation(10, "locked", BOARD, "locked", 5, faulty("locked"), "1F after the command of 'read memory'"),
    Situation(10, "locked, on verify", BOARD, "locked", 5, faulty("locked", purpose="verify")),
    Situation(10, "locked F1", "stm32f103", "locked", 5, {"images": {"flash": F103}, "faults": ("locked",)}),
    Situation(10, "another chip than declared", BOARD, "other-chip", 5, {**UPLOAD, "chip": "stm32f103"},
              "STM32F07x answered"),
    Situation(10, "another member of the family", "stm32f103", "other-chip", 5,
              {"images": {"flash": F103}, "chip": "stm32f103ze"}, "STM32F10x medium density answered"),
    Situation(11, "too large for the chip", "stm32c031", "does-not-fit", 5,
              {"images": {"flash": sample_for("stm32c031", 40000)}}, "08009C3F"),
    Situation(11, "too large for this very chip", "stm32f103", "does-not-fit", 5,
              {"images": {"flash": sample_for("stm32f103", 70000)}, "chip": "stm32f103"}, "64 KiB"),
    Situation(11, "for another place", BOARD, "does-not-fit", 5, raw(bytes(512), 0), "begins at 0000"),
    Situation(11, "no stack in RAM", BOARD, "vectors", 5, raw(bytes([0xFF] * 8) + bytes(64)), "stack pointer"),
    Situation(11, "an AVR image", BOARD, "vectors", 5, raw(b"\x0c\x94\x34\x00" * 30), "AVR jumps"),
    Situation(11, "an even reset vector", BOARD, "vectors", 5,
              raw(bytes.fromhex("00400020 C0000008") + bytes(256)), "even"),
    Situation(11, "a reset vector outside", BOARD, "vectors", 5,
              raw(bytes.fromhex("00400020 01000020") + bytes(256)), "outside the flash"),
    Situation(11, "kept room in the way", BOARD, "keeps", 5,
              {**UPLOAD, "options": WriteOptions(keep=(Keep(0x08000800, 0x100, "settings"),))}, "settings"),
    Situation(12, "restarts while it is written", BOARD, "restarted", 6, faulty("restart-after=1500"), "brood probe"),
    Situation(12, "silence while it is written", BOARD, "fell-silent", 6, faulty("silence-after=70", compare=False)),
    Situation(13, "a worn cell", BOARD, "worn-flash", 7, faulty("worn=0x08000123"), "08000123"),
    Situation(13, "writing has no effect", BOARD, "not-written", 7, faulty("dead-write"), "still blank (FF)"),
    Situation(13, "no effect, erased to 00", "stm32l053", "not-written", 7,
              {"images": {"flash": sample_for("stm32l053", 3000)}, "faults": ("dead-write",)}, "still blank (00)"),
    Situation(13, "not erased", BOARD, "not-erased", 7, UPLOAD, "", old_half_erased),
    Situation(14, "another text than expected", BOARD, "other-text", 8,
              {**UPLOAD, "expect": "frame lift", "expect_within_s": 1.5}, "brood probe 1.7"),
    Situation(14, "silent application", BOARD, "silent-application", 8,
              {"images": {"flash": sample_for(BOARD, 220)}, "expect": "probe", "expect_within_s": 1.0}),
    Situation(14, "console at another rate", BOARD, "wrong-rate", 8,
              {**UPLOAD, "expect": "brood probe 1.7", "expect_within_s": 2.0}, "0.5 times", talk_at(57600)),
]  # fmt: skip
