"""Simulated Propellers with the loaders in their ROM: the first, from Parallax's boot protocol; the second, from
"P2 hardware documentation", booting. Boards: p8x32a, p8x32a-eeprom, p2x8c4m64p.

| what | P8X32A | P2X8C4M64P |
|---|---|---|
| listens | 150 ms after a reset | 60 s at most after a reset |
| load | words, all of RAM is set | Base64 or hex from RAM 0 on |
| sum | all bytes of RAM, 8 bits, after the load: one bit | all longs, 32 bits: . or ! |
| EEPROM | written, then compared with RAM: one bit each | none |
| remembered over a reset | the EEPROM | its flash, which is not written here |

Their RAM takes what is written; the EEPROM may not. Stricter than silicon: both listen only briefly after a reset.
The first wants every bit of its handshake, and nothing while it computes; the second wants each line of data to begin
anew.
"""

from __future__ import annotations

import base64
import random
from collections.abc import Generator

from greenstep.core.image import Image, Piece
from greenstep.core.link import LineSettings

from ..boards import PUMP, BenchBoard
from ..chip import TIMED_OUT, Program, Spend, Take, Wish
from ..circuits import CapacitorPulse
from ..faults import Faults
from ..ram_loader import SimulatedRamLoader
from ..samples import body_of

_P1_RAM, _P2_RAM = 32 * 1024, 512 * 1024
_LISTENS_S, _BEGINS_S, _PATIENT_S = 0.15, 0.06, 5.0
_SUM_S, _PROGRAM_S, _VERIFY_S = 0.08, 3.2, 0.9

_DIGITS = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/"

Bits = Generator[Wish, int, int]


class SimulatedPropeller1(SimulatedRamLoader):
    """One P8X32A with its EEPROM, which is what any reset starts."""

    top_baud = 230_400

    def __init__(self, faults: Faults | None = None) -> None:
        super().__init__(faults, _P1_RAM, LineSettings(115200))
        self.pulses: list[int] = []
        self._measured = True

    def boot(self, boot_selected: bool) -> Program:
        self.begin()
        return self.own_program() if self.faults.no_boot else self._loader()

    def hear_raw(self, value: int, sent: LineSettings) -> bool:
        """It measures the pulses of the first character."""
        if not self.listens or self._measured or not self.follows(sent.baud):
            return False
        self._measured = True
        self.settings = LineSettings(sent.baud)
        return True

    def _loader(self) -> Program:
        self.running = False
        self.pulses = []
        yield Spend(_BEGINS_S)
        self._measured = False
        heard = yield Take(_LISTENS_S)
        self._measured = True
        if heard == 0xF9 and (yield from self._handshake()):
            yield from self._load()
            return
        self.restart(self.own_program())

    def _handshake(self) -> Generator[Wish, int, bool]:
        state = ord("P")

        def next_bit() -> int:
            nonlocal state
            bit = state & 1
            state = (state << 1 | ((state >> 7 ^ state >> 5 ^ state >> 4 ^ state >> 1) & 1)) & 0xFF
            return bit

        for _ in range(250):
            if (yield from self._bit(_LISTENS_S)) != next_bit():
                return False
        if self.pulses:
            self.violation(f"{len(self.pulses)} pulses more than the sequence has")
        answers = [next_bit() for _ in range(250)] + [1, 0, 0, 0, 0, 0, 0, 0]
        for bit in answers:
            if (yield Take(_LISTENS_S)) != 0xF9:
                return False
            self.send(bytes([0xFE | bit]))
        return True

    def _bit(self, patience_s: float = _PATIENT_S) -> Bits:
        """The next pulse: a low of one bit's time is 1, one of two is 0. A character holds three, or two, or one."""
        while not self.pulses:
            value = yield Take(patience_s)
            if value < 0:
                return -1
            levels, run = [0, *((value >> at) & 1 for at in range(8)), 1], 0
            for level in levels:
                if level == 0:
                    run += 1
                elif run:
                    self.pulses.append(run)
                    run = 0
        width = self.pulses.pop(0)
        if width > 2:
            self.violation(f"a pulse of {width} bits")
        return 1 if width == 1 else 0

    def _long(self) -> Bits:
        word = 0
        for at in range(32):
            bit = yield from self._bit()
            if bit < 0:
                return -1
            word |= bit << at
        return word

    def _load(self) -> Program:
        command = yield from self._long()
        if command in (1, 2, 3):
            number = yield from self._long()
            if not 0 < number <= _P1_RAM // 4:
                self.restart(self.own_program())
                return
            for at in range(number):
                word = yield from self._long()
                if word < 0:
                    self.restart(self.own_program())
                    return
                self.flash[4 * at : 4 * at + 4] = word.to_bytes(4, "little")
            self.flash[4 * number :] = bytes(_P1_RAM - 4 * number)
            for worn in self.faults.worn:
                self.flash[worn] ^= 0x10
            whole = sum(self.flash) + 2 * (0xFF + 0xFF + 0xF9 + 0xFF)
            yield from self._tell(_SUM_S, whole & 0xFF == 0)
            if whole & 0xFF == 0:
                if command > 1:
                    yield from self._tell(_PROGRAM_S, True)
                    if not self.faults.dead_write:
                        self.stored[:] = self.flash
                    yield from self._tell(_VERIFY_S, self.stored == self.flash)
                if command != 2:
                    self.restart(self.loaded_program())
                    return
        self.restart(self.own_program())

    def _tell(self, seconds: float, good: bool) -> Generator[Wish, int, None]:
        """After a while, the next character is answered by one bit: 0 if all is well."""
        yield Spend(seconds)
        if (yield Take(_PATIENT_S)) != TIMED_OUT:
            self.send(b"\xfe" if good else b"\xff")

    def violation(self, text: str) -> None:
        """It polls its pin: what comes while it computes is not lost to anything."""
        if "busy" not in text:
            super().violation(text)


class SimulatedPropeller2(SimulatedRamLoader):
    """One P2X8C4M64P; its flash holds what any reset starts."""

    top_baud = 2_000_000

    def __init__(self, faults: Faults | None = None) -> None:
        super().__init__(faults, _P2_RAM, LineSettings(115200))
        self._measured = False

    def boot(self, boot_selected: bool) -> Program:
        self.begin()
        return self.own_program() if self.faults.no_boot else self._loader()

    def hear_raw(self, value: int, sent: LineSettings) -> bool:
        """Each > is measured."""
        if value != ord(">") or not self.listens or not self.follows(sent.baud):
            return False
        self.settings = LineSettings(sent.baud)
        return True

    def _loader(self) -> Program:
        self.running = False
        self.settings = LineSettings(2400)
        yield Spend(0.015)
        patience_s: float | None = 0.1
        while True:
            value = yield Take(patience_s)
            if value == TIMED_OUT:
                break
            if value != ord(">"):
                continue
            words: list[bytes] = []
            for _ in range(5):
                words.append((yield from self._word()))
            if words[1:] != [b"0"] * 4:
                continue
            if words[0] == b"Prop_Chk":
                patience_s = None
                self.send(b"\r\nProp_Ver G\r\n")
            elif words[0] == b"Prop_Txt":
                patience_s = None
                if (yield from self._take_text()):
                    self.restart(self.loaded_program())
                    return
        self.restart(self.own_program())

    def _word(self) -> Generator[Wish, int, bytes]:
        """What stands between blanks."""
        word = b""
        while True:
            value = yield Take(1.0)
            if value in (TIMED_OUT, 0x20, 0x0D, 0x0A):
                if word or value == TIMED_OUT:
                    return word
            elif value != ord(">") and value >= 0:
                word += bytes([value])
            if len(word) > 20:
                return word

    def _take_text(self) -> Generator[Wish, int, bool]:
        """Base64 until ~ or ?. Returns whether what came is run."""
        digits, in_line = bytearray(), 0
        while True:
            value = yield Take()
            if value == ord(">"):
                in_line = 0
            elif value in (ord("~"), ord("?")):
                break
            elif value >= 0 and value in _DIGITS:
                digits.append(value)
                in_line += 1
                if in_line > 120:
                    self.violation("more than 120 characters without >")
        data = base64.b64decode(bytes(digits[: len(digits) // 4 * 4]) + self._rest(digits))
        data = data[: len(self.flash)]
        self.put(0, data, False)
        words = self.flash[: -(-len(data) // 4) * 4]
        total = sum(int.from_bytes(words[at : at + 4], "little") for at in range(0, len(words), 4))
        good = total & 0xFFFFFFFF == 0x706F7250
        if value == ord("?"):
            self.send(b"." if good else b"!")
            yield Spend(self.settings.seconds(2))
        return value == ord("~") or good

    @staticmethod
    def _rest(digits: bytearray) -> bytes:
        left = bytes(digits[len(digits) // 4 * 4 :])
        return left + b"=" * (4 - len(left)) if len(left) > 1 else b""


def _p1_program(text: str, size: int, seed: int) -> Image:
    """Clock, mode, check byte, and where objects, variables and stack begin."""
    source = random.Random(seed)
    size = -(-size // 4) * 4
    head = (80_000_000).to_bytes(4, "little") + b"\x6f\x00"
    head += b"".join(word.to_bytes(2, "little") for word in (0x10, size, size + 8, 0x18, size + 12))
    body = bytearray(body_of(head, text, size, source, 0x00))
    body[5] = (0x14 - sum(body)) & 0xFF
    return Image("feeder-pump.binary", (Piece(0, bytes(body)),), None, "raw binary")


def _p2_program(text: str, size: int, seed: int) -> Image:
    source = random.Random(seed)
    body = body_of(bytes.fromhex("28065CFD 00000000"), text, -(-size // 4) * 4, source, 0x00)
    return Image("feeder-pump.bin", (Piece(0, body),), None, "raw binary")


def _with_sum(image: Image) -> Image:
    """And the long that makes the sum."""
    data = image.pieces[0].data
    total = sum(int.from_bytes(data[at : at + 4], "little") for at in range(0, len(data), 4))
    last = (0x706F7250 - total & 0xFFFFFFFF).to_bytes(4, "little")
    return Image(image.name, (Piece(0, data + last),), None, image.format)


BOARDS = (
    BenchBoard(
        "p8x32a", "p8x32a", "P8X32A, 32 KiB RAM", SimulatedPropeller1, _p1_program, CapacitorPulse("dtr"), PUMP
    ),
    BenchBoard(
        "p8x32a-eeprom", "p8x32a", "P8X32A, 32 KiB RAM and EEPROM", SimulatedPropeller1, _p1_program,
        CapacitorPulse("rts"), PUMP, settings=(("into", "eeprom"),),
    ),
    BenchBoard(
        "p2x8c4m64p", "p2x8c4m64p", "P2X8C4M64P, 512 KiB RAM", SimulatedPropeller2, _p2_program,
        CapacitorPulse("dtr"), PUMP, held=_with_sum,
    ),
)  # fmt: skip
