"""Simulated PIC18 and PIC16 with Microchip's unified bootloader at the start of the flash, from DS40001779. Boards:
pic18f26k40, pic16f1938.

| what | the loader |
|---|---|
| a request | 55, command, length, key, address; it comes back whole before its answer |
| write (2), erase (3) | with the key 55 AA only; `silent_on_key`: without it nothing is done, and 01 is the answer all the same |
| erase (3) | `length` rows from the address on |
| sum (8) | of words, 16 bits, over exactly the range |
| status | 01 done, FE out of range, FF not supported |
| version (0) | also the size of a packet, the device id, and the sizes of rows |
| reset (9) | acknowledged |
| a PIC16 | addresses are of words of 14 bits, lengths in bytes, two to a word; a blank word is 3FFF, and says "no program" |
| remembered over a reset | nothing but the flash |

Stricter than silicon: a write that does not fill rows, onto what is not blank, or into the loader is refused and
noted.
"""  # noqa: E501

from __future__ import annotations

from collections.abc import Generator

from greenstep.core.frozen import frozen
from greenstep.core.image import Image
from greenstep.core.link import LineSettings

from .. import application, samples
from ..boards import PUMP, BenchBoard, board_of
from ..chip import TIMED_OUT, Program, Spend, Take, Wish
from ..circuits import CapacitorPulse, Circuit
from ..faults import Faults
from ..resident import SimulatedResident

Steps = Generator[Wish, int, None]
_ROW_S, _LISTENS_S = 0.002, 1.0
_DONE, _RANGE, _UNSUPPORTED = b"\x01", b"\xfe", b"\xff"


@frozen
class UnifiedKind:
    """Sizes in bytes; `loader` is (from, to). `in_words`: a PIC16, two bytes to a word of 14 bits."""

    title: str
    flash_bytes: int
    row: int
    loader: tuple[int, int]
    in_words: bool = False

    @property
    def blank(self) -> bytes:
        """An erased word."""
        return b"\xff\x3f" if self.in_words else b"\xff\xff"


KINDS = {
    "pic18f26k40": UnifiedKind("PIC18F26K40, unified bootloader", 65536, 64, (0, 0x400)),
    "pic16f1938": UnifiedKind("PIC16F1938, unified bootloader", 32768, 64, (0, 0x800), in_words=True),
}


class SimulatedUnified(SimulatedResident):
    """One board, whose loader listens for a second after reset, and for ever while there is no program."""

    top_baud = 230_400

    def __init__(self, kind: UnifiedKind, faults: Faults | None = None) -> None:
        super().__init__(faults, kind.flash_bytes, LineSettings(115200))
        self.kind = kind
        low, high = kind.loader
        self.flash[:] = kind.blank * (kind.flash_bytes // 2)
        self.flash[low:high] = (b"\xa5\x25" if kind.in_words else b"\xa5\xa5") * ((high - low) // 2)
        self._leaves = False
        self._measuring = False
        self.silent_on_key = True
        self.device = 0x6980 if not kind.in_words else 0

    def hear_raw(self, value: int, sent: LineSettings) -> bool:
        """The rate is measured on the 55 that begins a request."""
        if not self._measuring or not self._listening or value != 0x55 or not self.follows(sent.baud):
            return False
        self.settings = LineSettings(sent.baud)
        return True

    def program(self) -> Program:
        """The program begins behind the loader."""
        self._measuring = False
        if self._no_program:
            return self.loader()
        if self.kind.in_words:  # a text is RETLW 34xx, a word to a character
            words = (self.flash[at] if self.flash[at + 1] == 0x34 else 0xFF for at in range(0, len(self.flash), 2))
            self.running = True
            return application.run(self, bytes(words), self.console, self.faults)
        return super().program()

    @property
    def _no_program(self) -> bool:
        first = self.kind.loader[1]
        return self.flash[first : first + 2] == self.kind.blank

    def put(self, address: int, data: bytes, onto_blank: bool = True) -> None:
        """A word has 14 bits: the two above them are none."""
        if not self.kind.in_words:
            super().put(address, data, onto_blank)
            return
        high = range(address + 1, address + len(data), 2)
        for at in high:
            self.flash[at] |= 0xC0
        super().put(address, bytes(byte | 0xC0 * (at % 2) for at, byte in enumerate(data)), onto_blank)
        for at in high:
            self.flash[at] &= 0x3F

    def loader(self) -> Program:
        self.running = self._leaves = False
        self.settings = self.console
        yield Spend(0.003)
        heard = False
        while not self._leaves:
            self._measuring = True
            value = yield Take(None if heard or self._no_program else _LISTENS_S)
            if value == TIMED_OUT:
                break
            self._measuring = False
            if value != 0x55:
                continue
            head = yield from self.several(9)
            if min(head) < 0:
                continue
            heard = True
            yield from self._request(bytes(head))
        self._measuring = False
        yield Spend(0.001)
        self.restart(self.program())

    def _request(self, head: bytes) -> Steps:
        command, length, key = head[0], int.from_bytes(head[1:3], "little"), head[3:5]
        address = int.from_bytes(head[5:9], "little") * (2 if self.kind.in_words else 1)
        echo = b"\x55" + head
        low = self.kind.loader[1]
        if command == 0:
            told = b"\x08\x00" + (256).to_bytes(2, "little") + bytes(2) + self.device.to_bytes(2, "little") + bytes(2)
            self.send(echo + told + bytes([self.kind.row, self.kind.row]) + b"\x11\x22\x33\x44")
        elif command == 1 and length <= 256 and address + length <= self.kind.flash_bytes:
            self.send(echo + bytes(self.flash[address : address + length]))
        elif command == 8 and address + length <= self.kind.flash_bytes:
            words = self.flash[address : address + length]
            total = sum(int.from_bytes(words[at : at + 2], "little") for at in range(0, length, 2))
            self.send(echo + (total & 0xFFFF).to_bytes(2, "little"))
        elif command == 9:
            self.send(echo + _DONE)
            self._leaves = True
        elif command == 2 and key == b"\x55\xaa":
            data = bytes(max(0, value) for value in (yield from self.several(min(length, 256))))
            if address < low or address + length > self.kind.flash_bytes or length > 256:
                self.send(echo + _RANGE)
                return
            if address % self.kind.row or length % self.kind.row:
                self.violation(f"write of {length} bytes at {address:05X}")
                self.send(echo + _UNSUPPORTED)
                return
            yield Spend(_ROW_S * length / self.kind.row)
            self.put(address, data)
            self.send(echo + _DONE)
        elif command == 3 and key == b"\x55\xaa":
            size = length * self.kind.row
            if address < low or address % self.kind.row or not size or address + size > self.kind.flash_bytes:
                self.send(echo + _RANGE)
                return
            yield Spend(_ROW_S * length * self.faults.slow_erase)
            self.flash[address : address + size] = self.kind.blank * (size // 2)
            self.send(echo + _DONE)
        elif command in (2, 3):
            if command == 2:
                yield from self.several(min(length, 256))
            self.send(echo + (_DONE if self.silent_on_key else _UNSUPPORTED))
        else:
            self.send(echo + _UNSUPPORTED)


def _program(kind: UnifiedKind, text: str, size: int, seed: int) -> Image:
    make = samples.pic16_image if kind.in_words else samples.pic_image
    return make(text, size, seed, kind.loader[1])


def _board(name: str, circuit: Circuit) -> BenchBoard:
    return board_of(KINDS[name], SimulatedUnified, _program, name, circuit, PUMP, held=samples.code_of)


BOARDS = (_board("pic18f26k40", CapacitorPulse("dtr")), _board("pic16f1938", CapacitorPulse("dtr")))
