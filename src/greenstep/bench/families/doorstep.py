"""Simulated loaders that speak Doorstep (docs/doorstep.md), in chips of several families. Their boards:
doorstep-atmega328p, doorstep-atmega1284p, doorstep-pic18f46k22, doorstep-nrf51822, doorstep-nrf52832,
doorstep-samd21g18, and doorstep-digests, which cannot read.

A loader that hears while it writes does its work between characters; what it has not done yet waits in its places.
"""

from __future__ import annotations

import binascii
import struct
from collections import deque
from collections.abc import Callable, Generator, Iterator
from dataclasses import replace
from functools import partial

from greenstep.bench import application, samples
from greenstep.bench.boards import BenchBoard
from greenstep.bench.chip import TIMED_OUT, Program, SimulatedChip, Spend, Take, Wish
from greenstep.bench.circuits import CapacitorPulse, Circuit
from greenstep.bench.faults import Faults
from greenstep.core.frozen import frozen
from greenstep.core.image import Image, Piece
from greenstep.core.link import LineSettings

_DONE, _REFUSED, _KEPT = range(3)
_TRIAL_S, _TALK_S, _FOREVER_S = 0.5, 10.0, 1e9
_UID = bytes.fromhex("D1A0BEE5C0FFEE42")
_SAM = 4  # whose numbers have 16 bytes
_OWN = b"\xd0" * 512  # what stands in the loader's room


@frozen
class DoorstepKind:
    """One chip with such a loader. Addresses in bytes, times in seconds. `sum_s`: what a byte of a digest takes."""

    title: str
    family: int
    part: int
    begin: int
    seal: int
    top: int
    erase_unit: int
    write_unit: int
    data_bytes: int
    answer_bytes: int
    frames: int
    abilities: int
    clock: int
    rate_base: int
    rate_most: int
    erase_s: float
    program_s: float
    sum_s: float
    unique: bool
    program: Callable[[str, int, int], Image]

    @property
    def erases_itself(self) -> bool:
        """Whether a write erases."""
        return (self.abilities & 1) > 0


def _arm_program(start: int, ram_bytes: int) -> Callable[[str, int, int], Image]:
    def program(text: str, size: int, seed: int) -> Image:
        image = samples.stm32_image(text, size, ram_bytes, seed)
        data = image.pieces[0].data
        words = [int.from_bytes(data[at : at + 4], "little") for at in range(0, 192, 4)]
        moved = b"".join(
            (word - 0x08000000 + start if at else word).to_bytes(4, "little") for at, word in enumerate(words)
        )
        return Image("swarm-tag.hex", (Piece(start, moved + data[192:]),), None, "Intel HEX")

    return program


def _pic_program(text: str, size: int, seed: int) -> Image:
    return samples.code_of(samples.pic_image(text, size, seed, 0x800))


KINDS = {
    "atmega328p": DoorstepKind(
        "ATmega328P, Doorstep", 1, 0x1E950F, 0, 0x7B80, 0x8000, 128, 128, 512, 240, 3, 15,
        16_000_000, 2_000_000, 4096, 0.0045, 0.0045, 1.5e-6, False, samples.avr_image,
    ),
    "atmega1284p": DoorstepKind(
        "ATmega1284P, Doorstep", 1, 0x1E9705, 0, 0x1F700, 0x20000, 256, 256, 512, 240, 3, 15,
        16_000_000, 2_000_000, 4096, 0.0045, 0.0045, 1.6e-6, False, samples.avr_image,
    ),
    "pic18f46k22": DoorstepKind(
        "PIC18F46K22, Doorstep", 2, 0x5400, 0x800, 0xFFC0, 0x10000, 64, 64, 1024, 240, 1, 3,
        16_000_000, 4_000_000, 32768, 0.002, 0.002, 9e-6, False, _pic_program,
    ),
    "nrf51822": DoorstepKind(
        "nRF51822, Doorstep", 3, 0x51822, 0x800, 0x3FC00, 0x40000, 1024, 4, 1024, 240, 3, 22,
        16_000_000, 16_000_000, 0, 0.021, 46e-6, 3.2e-6, True, _arm_program(0x800, 16384),
    ),
    "nrf52832": DoorstepKind(
        "nRF52832, Doorstep", 3, 0x52832, 0x1000, 0x7F000, 0x80000, 4096, 4, 1024, 240, 3, 22,
        64_000_000, 16_000_000, 0, 0.085, 41e-6, 0.8e-6, True, _arm_program(0x1000, 65536),
    ),
    "samd21g18": DoorstepKind(
        "SAM D21G18, Doorstep", 4, 0x10010005, 0x800, 0x3FF00, 0x40000, 256, 256, 1024, 240, 3, 31,
        8_000_000, 8_000_000, 0, 0.006, 0.010, 6e-6, True, _arm_program(0x800, 32768),
    ),
}  # fmt: skip

KINDS["digests"] = replace(KINDS["atmega328p"], title="ATmega328P, Doorstep without read", abilities=1)
"""What is left if a loader leaves out all that may be missing: nothing is read, nothing heard while it writes."""

Steps = Generator[Wish, int, None]


class SimulatedDoorstep(SimulatedChip):
    def __init__(self, kind: DoorstepKind, faults: Faults | None = None) -> None:
        super().__init__()
        self.kind, self.faults = kind, faults or Faults()
        self.flash = bytearray(b"\xff") * kind.top
        own = kind.seal + kind.erase_unit if kind.begin == 0 else 0
        self.flash[own : own + len(_OWN)] = _OWN
        self.settings = self.console = LineSettings(115200)
        self._message = bytearray()
        self._left = 0
        self._owed = self._bad = False
        self._places: deque[bytes] = deque()
        self._work: Iterator[float] | None = None
        self._trial = self._is_whole = False

    def boot(self, boot_selected: bool) -> Program:
        return self._application() if self.faults.no_boot else self._loader(1.5)

    def brown_out(self, at_s: float) -> None:
        """Whatever reset it, the loader comes first."""
        self.run_from(at_s, self.boot(False))

    def _application(self) -> Program:
        held = bytes(self.flash[self.kind.begin : self.kind.seal])
        return application.run(self, held, self.console, self.faults)

    # --- the application

    def _whole(self) -> bool:
        length, sum_ = struct.unpack_from("<II", self.flash, self.kind.seal)
        if not 0 < length <= self.kind.seal - self.kind.begin:
            return False
        return bool(binascii.crc32(self.flash[self.kind.begin : self.kind.begin + length]) == sum_)

    # --- frames

    def _begin_frame(self) -> None:
        self._message = bytearray()
        self._left, self._owed, self._bad = 0, False, False

    def _take(self, value: int) -> None:
        if value < 0:
            self._bad = True
        elif not value:
            message = bytes(self._message)
            whole = not self._left and not self._bad and len(message) > 5
            if whole and binascii.crc32(message[:-4]) == int.from_bytes(message[-4:], "little"):
                if len(self._places) >= self.kind.frames:
                    self.violation("a frame for which there is no place")
                else:
                    self._places.append(message[:-4])
            self._begin_frame()
        elif self._left:
            self._left -= 1
            self._message.append(value)
        else:
            if self._owed:
                self._message.append(0)
            self._left, self._owed = value - 1, value != 0xFF
        if len(self._message) > self.kind.data_bytes + 10:
            self._bad = True
            del self._message[-1]

    def _answer(self, message: bytes) -> None:
        out, run = bytearray(), bytearray()
        for value in message + binascii.crc32(message).to_bytes(4, "little"):
            if value:
                run.append(value)
            if not value or len(run) == 254:
                out += bytes([len(run) + 1]) + run
                run.clear()
        self.send(bytes(out) + bytes([len(run) + 1]) + run + b"\x00")

    # --- the loader

    def _loader(self, wait_s: float) -> Program:
        self.settings = self.console
        self._places.clear()
        self._begin_frame()
        self._work, self._trial = None, False
        self._is_whole = self._whole()
        length = int.from_bytes(self.flash[self.kind.seal :][:4], "little")
        sealed_bytes = length if length <= self.kind.seal - self.kind.begin else 0
        ready = self.now + 0.001 + sealed_bytes * self.kind.sum_s
        ends = ready + wait_s
        while self.now < ready:
            yield Take(ready - self.now)
        due = self.now
        while True:
            if self._work is None and self._places:
                message = self._places[0]
                if message[0] == 4:
                    self._work, due = self._write(message), self.now
                else:
                    leaves = yield from self._question(message)
                    self._places.clear()
                    self._begin_frame()
                    if leaves:
                        break
                    ends = self.now + (_TRIAL_S if self._trial else _TALK_S)
                continue
            value = yield Take(max(0.0, (due if self._work else ends) - self.now))
            if value != TIMED_OUT and self._work and not self.kind.abilities & 4:
                self.violation("a character while it writes, and hears nothing")
                self._bad = True
            elif value != TIMED_OUT:
                self._take(value)
            elif self._work is not None:
                spent = next(self._work, None)
                if spent is None:
                    self._work = None
                    self._places.popleft()
                    ends, self._trial = self.now + _TALK_S, False
                else:
                    due = self.now + spent
            elif self._trial:
                self.settings, self._trial = self.console, False
                ends = self.now + _TALK_S
                self._begin_frame()
            elif self._is_whole:
                break
            else:
                self.settings, ends = self.console, self.now + _FOREVER_S
        yield Spend(0.002)
        self.restart(self._application())

    def _unsealed(self) -> Iterator[float]:
        """The seal is broken before anything else changes."""
        at, unit = self.kind.seal, self.kind.erase_unit
        if self._is_whole:
            self._is_whole = False
            self.flash[at : at + unit] = b"\xff" * unit
            yield self.kind.erase_s

    def _write(self, message: bytes) -> Iterator[float]:
        """The steps of a write, each with its time; answered at the end."""
        kind = self.kind
        address, data = int.from_bytes(message[2:6], "little"), message[6:]
        status = _DONE
        if not self._may_change(address, len(data), kind.write_unit) or len(data) > kind.data_bytes:
            status = _REFUSED
        else:
            yield from self._unsealed()
            for at in range(0, len(data), kind.write_unit):
                place, unit = address + at, data[at : at + kind.write_unit]
                if self.flash[place : place + len(unit)] == unit:
                    continue
                if kind.erases_itself and not self.faults.dead_write:
                    self.flash[place : place + len(unit)] = b"\xff" * len(unit)
                    yield kind.erase_s * self.faults.slow_erase
                elif self.flash[place : place + len(unit)].strip(b"\xff"):
                    status = _KEPT
                    continue
                self.put(place, unit)
                yield kind.program_s
                if self.flash[place : place + len(unit)] != unit:
                    status = _KEPT
        self._answer(bytes([0x84, message[1], status]))

    def _may_change(self, address: int, size: int, unit: int) -> bool:
        inside = self.kind.begin <= address and address + size <= self.kind.seal
        return size > 0 and inside and not address % unit and not size % unit

    def _question(self, message: bytes) -> Generator[Wish, int, bool]:
        """Answer any other question; nothing is heard meanwhile. Returns whether the application is started."""
        kind, number = message[0], message[1]
        if len(message) != 10:
            kind = 0
        first, second = struct.unpack_from("<II", message.ljust(10, b"\0"), 2)
        status, told = _DONE, b""
        chip = self.kind
        if kind == 1:
            told = bytes([1 if self._is_whole else 2]) + self._facts()
        elif kind == 2:
            each, count = second & 0xFFFF, second >> 16
            if count * 4 > chip.answer_bytes or first + each * count > chip.top:
                status = _REFUSED
            else:
                yield Spend(each * count * chip.sum_s)
                starts = [first + each * turn for turn in range(count)]
                told = b"".join(binascii.crc32(self.flash[at : at + each]).to_bytes(4, "little") for at in starts)
        elif kind == 3:
            if not chip.abilities & 16 or not self._may_change(first, second, chip.erase_unit):
                status = _REFUSED
            else:
                for spent in self._unsealed():
                    yield Spend(spent)
                for at in range(first, first + second, chip.erase_unit):
                    if self.flash[at : at + chip.erase_unit].strip(b"\xff"):
                        yield Spend(chip.erase_s * self.faults.slow_erase)
                        if self.faults.dead_write:
                            status = _KEPT
                            break
                        self.flash[at : at + chip.erase_unit] = b"\xff" * chip.erase_unit
        elif kind == 5:
            if not chip.abilities & 2 or second > chip.answer_bytes or first + second > chip.top:
                status = _REFUSED
            else:
                told = bytes(self.flash[first : first + second])
        elif kind == 6:
            status = _DONE if self._rate(first) else _REFUSED
        elif kind == 7:
            status = _DONE if self._is_whole else _REFUSED
        elif kind == 8:
            status, told = yield from self._seal(first, second)
        else:
            status = _REFUSED
        before = self.settings
        self._answer(bytes([0x80 | message[0], number, status]) + told)
        self._trial = False
        if kind == 6 and status == _DONE:
            yield Spend(before.seconds(11))
            self.settings = LineSettings(self._rate(first), before.frame)
            self._trial = True
        return kind == 7 and status == _DONE

    def _seal(self, length: int, sum_: int) -> Generator[Wish, int, tuple[int, bytes]]:
        chip = self.kind
        if not 0 < length <= chip.seal - chip.begin:
            return _REFUSED, b""
        yield Spend(length * chip.sum_s)
        found = binascii.crc32(self.flash[chip.begin : chip.begin + length])
        if found != sum_:
            self._is_whole = False
            return _REFUSED, found.to_bytes(4, "little")
        words = struct.pack("<II", length, sum_)
        if self.flash[chip.seal : chip.seal + 8] != words:
            yield Spend(chip.erase_s + chip.program_s)
            if not self.faults.dead_write:
                self.flash[chip.seal : chip.seal + chip.erase_unit] = b"\xff" * chip.erase_unit
            self.put(chip.seal, words)
        kept = self._is_whole = self.flash[chip.seal : chip.seal + 8] == words
        return (_DONE if kept else _KEPT), found.to_bytes(4, "little")

    def _rate(self, setting: int) -> int:
        """The rate that a setting makes; 0 if it makes none that the chip can."""
        chip = self.kind
        if chip.rate_most:
            baud = chip.rate_base // setting if 0 < setting <= chip.rate_most else 0
        else:
            baud = round(setting * chip.rate_base / (1 << 32))
        return baud if baud and self.follows(baud) else 0

    def _facts(self) -> bytes:
        chip = self.kind
        uid = (_UID[:-1] + bytes([_UID[-1] + self.copy])) * (2 if chip.family == _SAM else 1) if chip.unique else b""
        unit = chip.erase_unit
        return struct.pack(
            "<BBBBIBBHHHHHHHHIIHH", 1, chip.family, chip.abilities, chip.frames, chip.part, 0, len(uid),
            chip.begin // unit, chip.seal // unit, chip.top // unit, unit, chip.write_unit, chip.data_bytes,
            chip.answer_bytes, chip.clock // 1000, 115200, chip.rate_base, chip.rate_most & 0xFFFF, 1500,
        ) + uid  # fmt: skip


def sealed(kind: DoorstepKind, image: Image) -> Image:
    """The image with the seal that an upload leaves."""
    code = image.pieces
    end = max(piece.end for piece in code)
    data = Image(image.name, code).cut(kind.begin, end - kind.begin, 0xFF)
    words = struct.pack("<II", len(data), binascii.crc32(data))
    return Image(image.name, (*code, Piece(kind.seal, words)))


def _board(name: str, circuit: Circuit, texts: tuple[str, str]) -> BenchBoard:
    kind = KINDS[name]
    return BenchBoard(
        f"doorstep-{name}", name.replace("digests", "atmega328p"), kind.title, partial(SimulatedDoorstep, kind),
        kind.program, circuit, texts, dialect="doorstep", held=partial(sealed, kind),
    )  # fmt: skip


BOARDS = (
    _board("atmega328p", CapacitorPulse("dtr"), ("queen lamp 1.4 ready", "queen lamp 1.5 ready")),
    _board("atmega1284p", CapacitorPulse("dtr"), ("hive clock 3.0 ready", "hive clock 3.1 ready")),
    _board("pic18f46k22", CapacitorPulse("rts"), ("wax press 2.0 ready", "wax press 2.1 ready")),
    _board("nrf51822", CapacitorPulse("rts"), ("swarm tag 0.8 ready", "swarm tag 0.9 ready")),
    _board("nrf52832", CapacitorPulse("dtr"), ("queen finder 1.0 ready", "queen finder 1.1 ready")),
    _board("digests", CapacitorPulse("dtr"), ("honey gate 0.2 ready", "honey gate 0.3 ready")),
    _board("samd21g18", CapacitorPulse("dtr"), ("comb mill 1.1 ready", "comb mill 1.2 ready")),
)
