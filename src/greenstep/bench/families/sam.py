"""Simulated SAM with SAM-BA, from the data sheets ("SAM-BA boot program", "EEFC", "NVMCTRL", "CHIPID") and AT07175.
Boards: sam3x8e, sam4s16, samd21g18, samd51j19.

What they are given to run is run, instruction by instruction. Stricter than silicon: a page is written only where it
is blank, commands to pages that do not exist are errors, a write to memory that there is not is noted, and so is one
that would set the security bit. On boards with SAM3 and SAM4 a pin makes the program hand over to SAM-BA.
"""

from __future__ import annotations

import binascii
import random
from collections.abc import Generator
from functools import partial

from greenstep.core.frozen import frozen
from greenstep.core.image import Image, Piece
from greenstep.core.link import LineSettings

from .. import application
from ..boards import BenchBoard
from ..chip import TIMED_OUT, Program, SimulatedChip, Spend, Take, Wish
from ..circuits import Circuit, DtrResetRtsBoot, RtsResetDtrBoot, UsbHangUp
from ..faults import Faults
from ..samples import body_of
from ..stock import Stock
from ..thumb import ThumbCpu, ThumbFault

Steps = Generator[Wish, int, None]
_LIFT = ("frame lift 1.0 ready", "frame lift 1.1 ready")
_MOST_INSTRUCTIONS, _MOST_LOOKS, _HZ = 8_000_000, 20_000, 40e6
_SOH, _EOT, _ACK, _NAK, _CAN, _CALL = 1, 4, 6, 0x15, 0x18, 0x43
_BLOCK, _CALL_S = 128, 0.8


@frozen
class SamKind:
    """`controller`: eefc-3, eefc-4, nvmctrl or nvmctrl-5x. `chip_id` is (register, value). `monitor` bytes at
    the start are a resident monitor's own. `usb`: it is its own USB device. `returns`: it says so when a program
    returns."""

    title: str
    controller: str
    flash_at: int
    flash_bytes: int
    page: int
    unit: int
    ram_at: int
    ram_bytes: int
    core: int
    chip_id: tuple[int, int]
    banks: tuple[tuple[int, int], ...] = ()
    monitor: int = 0
    usb: bool = False
    returns: bool = False

    @property
    def loader(self) -> tuple[int, int]:
        """Where the monitor is."""
        return 0, self.monitor


KINDS = {
    "sam3x8e": SamKind(
        "SAM3X8E, 512 KiB", "eefc-3", 0x80000, 0x80000, 256, 256, 0x20000000, 0x10000, 0xC23,
        (0x400E0940, 0x285E0A60), ((0x80000, 0x400E0A00), (0xC0000, 0x400E0C00)),
    ),
    "sam4s16": SamKind(
        "SAM4S16C, 1 MiB", "eefc-4", 0x400000, 0x100000, 512, 8192, 0x20000000, 0x20000, 0xC24,
        (0x400E0740, 0x28AC0CE0), ((0x400000, 0x400E0A00),),
    ),
    "samd21g18": SamKind(
        "SAM D21G18, 256 KiB", "nvmctrl", 0, 0x40000, 64, 256, 0x20000000, 0x8000, 0xC60, (0x41002018, 0x10010305),
        monitor=0x2000, returns=True,
    ),
    "samd51j19": SamKind(
        "SAM D51J19, 512 KiB", "nvmctrl-5x", 0, 0x80000, 512, 8192, 0x20000000, 0x30000, 0xC24,
        (0x41002018, 0x60060305), monitor=0x4000, usb=True, returns=True,
    ),
}  # fmt: skip
_ERASE_S = {"eefc-3": 0.0, "eefc-4": 0.05, "nvmctrl": 0.006, "nvmctrl-5x": 0.1}
_PAGE_S = {"eefc-3": 0.0046, "eefc-4": 0.0015, "nvmctrl": 0.0025, "nvmctrl-5x": 0.0025}


class SimulatedSam(SimulatedChip):
    """One chip. `flash` is its content, `boots` whether GPNVM bit 1 is set."""

    lasting_marks = ("boots",)

    def __init__(self, kind: SamKind, faults: Faults | None = None) -> None:
        super().__init__()
        self.kind = kind
        self.faults = faults or Faults()
        self.base = kind.flash_at
        self.flash = bytearray(b"\xff") * kind.flash_bytes
        self.ram = bytearray(kind.ram_bytes)
        self.settings = self.console = LineSettings(115200)
        self.boots = True
        self.running = False
        self._latch: dict[int, int] = {}
        self._registers: dict[int, int] = {}
        self._busy_s = 0.0
        self._looks = 0
        self._resets = False
        self._values: list[int] = [0, 0]
        self._letter = ""

    # --- from reset

    def boot(self, boot_selected: bool) -> Program:
        self._latch, self._registers, self._busy_s, self._resets = {}, {}, 0.0, False
        if self.kind.controller == "nvmctrl":
            self._registers[0x41004004] = 0
        at = self.kind.monitor
        blank = not self.flash[at : at + 8].strip(b"\xff")
        enters = boot_selected or (not self.boots if self.kind.banks else blank)
        return self._monitor() if enters and not self.faults.no_boot else self._application()

    def hung_up(self, at_s: float, baud: int, dtr: bool) -> bool:
        if not self.kind.usb or baud != 1200 or dtr or not self.running or self.faults.no_boot:
            return False
        self.run_from(at_s, self._monitor())
        return True

    def _application(self) -> Program:
        self.running = True
        started = application.run(self, bytes(self.flash), self.console, self.faults)
        if self.leaving:
            yield Spend(1.0)
            self.restart(started)
            return
        yield from started

    # --- the monitor

    def _monitor(self) -> Program:
        self.running = self.leaving = False
        self.settings = LineSettings(115200)
        self.keeps_early = True
        self._letter, self._values = "", [0, 0]
        binary = False
        yield Spend(0.02)
        while not self._resets:
            value = yield Take()
            if value < 0:
                continue
            sign = chr(value)
            if sign == "#":
                letter, self._letter = self._letter, ""
                if letter in ("N", "T"):
                    binary = letter == "N"
                    self.send(b"\n\r")
                elif letter == "V":
                    self.send(b"v1.9 Mar 3 2025 08:15:00\n\r")
                elif letter:
                    yield from self._carry_out(letter, *self._values)
                if not binary and not self._resets:
                    self.send(b">")
                self._values = [0, 0]
            elif sign in "OoHhWwSRGNTV":
                self._letter, self._values = sign, [0, 0]
            elif sign == ",":
                self._values = [self._values[1], 0]
            elif sign in "0123456789ABCDEFabcdef":
                self._values[1] = self._values[1] << 4 & 0xFFFFFFFF | int(sign, 16)
        self.keeps_early = False
        self.leaving = self.kind.usb
        self.in_reset = False
        self.restart(self._rebooted())

    def _rebooted(self) -> Program:
        """A reset from within: pins are as they are."""
        self._resets = False
        if self.kind.banks and not self.boots:
            yield from self._monitor()
        else:
            yield from self._application()

    def _carry_out(self, letter: str, first: int, second: int) -> Steps:
        """`first` is the value before the comma; without one, all is in `second`."""
        try:
            if letter == "w":
                self.send(self.load(first & ~3 if first else second, 4).to_bytes(4, "little"))
            elif letter in "oh":
                self.send(self.load(first or second, 1 if letter == "o" else 2).to_bytes(4, "little"))
            elif letter in "OHW":
                self.store(first, {"O": 1, "H": 2, "W": 4}[letter], second)
            elif letter == "S":
                yield from self._take_file(first, second)
            elif letter == "R":
                yield from self._send_file(first, second)
            elif letter == "G":
                yield from self._go(first or second)
        except _Reset:
            return
        except ThumbFault as fault:
            self.violation(f"{letter}: {fault}")
            yield from application.idle(1e9)  # the processor has stopped

    def _take_file(self, address: int, size: int) -> Steps:
        if self.kind.usb:
            values = yield from self.several(size)
            self._keep(address, bytes(max(0, value) for value in values))
            return
        number, came = 1, 0
        self.send(bytes([_CALL]))
        while True:
            start = yield Take(_CALL_S)
            if start == TIMED_OUT:
                self.send(bytes([_CALL]) if came == 0 else bytes([_NAK]))
            elif start == _EOT:
                self.send(bytes([_ACK]))
                return
            elif start == _CAN:
                return
            elif start == _SOH:
                rest = yield from self.several(4 + _BLOCK, 0.5)
                block = bytes(max(0, value) for value in rest[2:-2])
                good = len(rest) == 4 + _BLOCK and min(rest) >= 0 and rest[0] == rest[1] ^ 0xFF
                if not good or binascii.crc_hqx(block, 0).to_bytes(2, "big") != bytes(rest[-2:]):
                    self.send(bytes([_NAK]))
                    continue
                if rest[0] == number & 0xFF:
                    self._keep(address + came, block[: max(0, size - came)])
                    came, number = came + _BLOCK, number + 1
                self.send(bytes([_ACK]))

    def _keep(self, address: int, data: bytes) -> None:
        for at in range(0, len(data), 4):
            self.store(address + at, 4, int.from_bytes(data[at : at + 4], "little"))

    def _send_file(self, address: int, size: int) -> Steps:
        data = b"".join(self.load(address + at, 4).to_bytes(4, "little") for at in range(0, size, 4))[:size]
        if self.kind.usb:
            self.send(data)
            return
        while (yield Take()) != _CALL:
            pass
        for number, at in enumerate(range(0, size, _BLOCK), 1):
            block = data[at : at + _BLOCK].ljust(_BLOCK, b"\x00")
            for _ in range(10):
                head = bytes([_SOH, number & 0xFF, ~number & 0xFF])
                self.send(head + block + binascii.crc_hqx(block, 0).to_bytes(2, "big"))
                answer = yield Take(2.0)
                if answer in (_ACK, _CAN):
                    break
            if answer != _ACK:
                return
        self.send(bytes([_EOT]))
        yield Take(2.0)

    def _go(self, address: int) -> Steps:
        stack, entry = self.load(address, 4), self.load(address + 4, 4)
        cpu = ThumbCpu(self)
        self._busy_s, self._looks = 0.0, 0
        try:
            returned = cpu.call(entry, stack, _MOST_INSTRUCTIONS)
        except _Reset:
            returned = False
        yield Spend(self._busy_s + cpu.count / _HZ)
        if self._resets:
            return
        if not returned:
            self.violation("the program never returned")
            yield from application.idle(1e9)
        if self.kind.returns:
            self.send(bytes([_ACK]))

    # --- the bus

    def load(self, address: int, size: int) -> int:
        at = address - self.kind.ram_at
        if 0 <= at <= len(self.ram) - size:
            return int.from_bytes(self.ram[at : at + size], "little")
        at = address - self.kind.flash_at
        if 0 <= at <= len(self.flash) - size:
            return int.from_bytes(self.flash[at : at + size], "little")
        self._looks += 1
        if self._looks > _MOST_LOOKS:
            raise ThumbFault(f"it waits for {address:08X} for ever")
        word = self._register(address & ~3)
        return word >> 8 * (address & 3) & (1 << 8 * size) - 1

    def store(self, address: int, size: int, value: int) -> None:
        value &= (1 << 8 * size) - 1
        at = address - self.kind.ram_at
        if 0 <= at <= len(self.ram) - size:
            self.ram[at : at + size] = value.to_bytes(size, "little")
        elif 0 <= address - self.kind.flash_at <= len(self.flash) - size:
            if size == 1:
                self.violation(f"byte written to the page buffer at {address:08X}")
            for index, byte in enumerate(value.to_bytes(size, "little")):
                self._latch[address - self.kind.flash_at + index] = byte
        elif address == 0xE000ED0C:
            self._resets = value == 0x05FA0004
            if self._resets:
                raise _Reset
        else:
            self._set(address, value)

    def _register(self, address: int) -> int:
        kind = self.kind
        if address == 0xE000ED00:
            return 0x410F0001 | kind.core << 4
        if address == 0xE000ED0C:
            return 0xFA050000
        if address == kind.chip_id[0]:
            return kind.chip_id[1]
        if kind.banks:
            for _, at in kind.banks:
                if at <= address < at + 16:
                    told = self._registers.get(address, 0)
                    if address == at + 8:
                        self._registers[address] = 0  # errors are told once
                        return told | 1
                    return told
        elif 0x41004000 <= address < 0x41004020:
            return self._nvm(address - 0x41004000)
        elif address in (
            0x0080A00C,
            0x0080A040,
            0x0080A044,
            0x0080A048,
            0x008061FC,
            0x00806010,
            0x00806014,
            0x00806018,
        ):
            return 0x5A000000 + (address & 0xFF) + self.copy
        raise ThumbFault(f"nothing is at {address:08X}")

    def _nvm(self, at: int) -> int:
        if at == 8:
            size_code = {64: 3, 512: 6}[self.kind.page]
            return len(self.flash) // self.kind.page | size_code << 16
        told = self._registers.get(0x41004000 + at, 0)
        if self.kind.controller == "nvmctrl":
            return told | 1 if at == 0x14 else told
        return told | 1 << 16 if at == 0x10 else told

    def _set(self, address: int, value: int) -> None:
        kind = self.kind
        if kind.banks:
            for first, at in kind.banks:
                if address == at + 4:
                    self._eefc(first, at, value)
                    return
                if address == at:
                    return
        elif address in (0x41004000, 0x41004004, 0x41004010, 0x41004014, 0x4100401C):
            own = 0x41004000 if kind.controller == "nvmctrl" else 0x41004004
            flags = 0x41004014 if kind.controller == "nvmctrl" else 0x41004010
            if address == own:
                self._command(value)
            elif address == flags:
                self._registers[address] = self._registers.get(address, 0) & ~value
            else:
                self._registers[address] = value
            return
        raise ThumbFault(f"nothing to write at {address:08X}")

    # --- flash controllers

    def _eefc(self, first: int, at: int, value: int) -> None:
        """Commands have a key; an argument that is no page is an error."""
        command, argument = value & 0xFF, value >> 8 & 0xFFFF
        offset = first - self.kind.flash_at + argument * self.kind.page
        size = len(self.flash) // len(self.kind.banks)
        if value >> 24 != 0x5A or argument * self.kind.page >= size:
            self._registers[at + 8] = 2
        elif command in (0x01, 0x03):
            self._burn_page(offset, command == 0x03)
        elif command == 0x07 and self.kind.controller == "eefc-4" and argument & 3 == 2:
            self._erase((argument & ~0xF) * self.kind.page + first - self.kind.flash_at)
        elif command == 0x0B and argument == 1:
            self.boots = True
        elif command == 0x0B and argument == 0:
            self.violation("the security bit is set")
        else:
            self.violation(f"EEFC command {value:08X}")
            self._registers[at + 8] = 2

    def _command(self, value: int) -> None:
        kind = self.kind
        if value >> 8 != 0xA5:
            self.violation(f"NVMCTRL command {value:04X}")
            return
        five = kind.controller == "nvmctrl-5x"
        address = self._registers.get(0x41004014 if five else 0x4100401C, 0)
        at = address if five else 2 * address
        if value & 0xFF == (0x01 if five else 0x02):
            self._erase(at)
        elif value & 0xFF == (0x03 if five else 0x04) and self._latch:
            self._burn_page(min(self._latch) // kind.page * kind.page, False)
        else:
            self.violation(f"NVMCTRL command {value:04X}")
            self._registers[0x41004010 if five else 0x41004014] = 2

    def _erase(self, at: int) -> None:
        at -= at % self.kind.unit
        if at < self.kind.monitor:
            self.violation(f"erase of the monitor at {at:05X}")
        self._busy_s += _ERASE_S[self.kind.controller] * self.faults.slow_erase
        self.flash[at : at + self.kind.unit] = b"\xff" * len(self.flash[at : at + self.kind.unit])

    def _burn_page(self, at: int, erases: bool) -> None:
        """The page buffer, which must be this page's, into the page."""
        page = self.kind.page
        latched = {where: byte for where, byte in self._latch.items() if at <= where < at + page}
        if len(latched) != page or len(self._latch) != page or at < self.kind.monitor:
            self.violation(f"page at {at:05X} written with {len(latched)} of {len(self._latch)} bytes")
        self._latch = {}
        self._busy_s += _PAGE_S[self.kind.controller]
        data = bytes(latched.get(where, 0xFF) for where in range(at, at + page))
        self.put(self.base + at, data, not erases)


class _Reset(ThumbFault):
    """The processor asked for a reset: it runs no further."""


def _program_of(kind: SamKind, text: str, size: int, seed: int) -> Image:
    source = random.Random(seed)
    start = kind.flash_at + kind.monitor
    handlers = [start + 0x100 + 2 * source.randrange(100) | 1 for _ in range(46)]
    vectors = b"".join(word.to_bytes(4, "little") for word in (kind.ram_at + kind.ram_bytes, start + 0xC1, *handlers))
    body = body_of(vectors, text, size, source, 0xFF)
    return Image("frame-lift.hex", (Piece(start, body),), start + 0xC1, "Intel HEX")


def _board(name: str, chip: str, circuit: Circuit) -> BenchBoard:
    kind = KINDS[name]
    return BenchBoard(
        name, "sam", name, chip, circuit, 115200, _LIFT,
        stock=lambda: Stock(kind.title, partial(SimulatedSam, kind), partial(_program_of, kind)),
    )  # fmt: skip


BOARDS = (
    _board("samd21g18", "samd21g18", DtrResetRtsBoot("low")),
    _board("samd51j19", "samd51j19", UsbHangUp()),
    _board("sam3x8e", "sam3x8e", DtrResetRtsBoot("low")),
    _board("sam4s16", "sam4s16c", RtsResetDtrBoot("low")),
)
