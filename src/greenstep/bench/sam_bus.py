"""What a simulated SAM's processor is connected to: RAM, flash, identification and the flash controllers' registers,
from the data sheets ("EEFC", "NVMCTRL", "CHIPID").

Stricter than silicon: a page is written only where it is blank, commands to pages that do not exist are errors, a
write to memory that there is not is a fault, and one that would set the security bit is noted.
"""

from __future__ import annotations

from typing import ClassVar

from greenstep.core.frozen import frozen

from .chip import SimulatedChip
from .faults import Faults
from .thumb import ThumbFault

_MOST_LOOKS = 20_000
ERASE_S = {"eefc-3": 0.0, "eefc-4": 0.05, "nvmctrl": 0.006, "nvmctrl-5x": 0.1}
PAGE_S = {"eefc-3": 0.0046, "eefc-4": 0.0015, "nvmctrl": 0.0025, "nvmctrl-5x": 0.0025}


@frozen
class SamKind:
    """`controller`: eefc-3, eefc-4, nvmctrl or nvmctrl-5x. `chip_id` is (register, value). `monitor` bytes at the
    start are a resident monitor's own. `usb`: it is its own USB device. `returns` is what it says when a program
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
    returns: bytes = b""

    @property
    def loader(self) -> tuple[int, int]:
        """Where the monitor is."""
        return 0, self.monitor


class ResetAsked(ThumbFault):
    """The processor asked for a reset: it runs no further."""


class SamBus(SimulatedChip):
    """One chip without its monitor. `flash` is its content, `boots` whether GPNVM bit 1 is set."""

    lasting_marks: ClassVar[tuple[str, ...]] = ("boots",)

    def __init__(self, kind: SamKind, faults: Faults | None = None) -> None:
        super().__init__()
        self.kind = kind
        self.faults = faults or Faults()
        self.base = kind.flash_at
        self.flash = bytearray(b"\xff") * kind.flash_bytes
        self.ram = bytearray(kind.ram_bytes)
        self.boots = True
        self._latch: dict[int, int] = {}
        self._registers: dict[int, int] = {}
        self._busy_s = 0.0
        self._looks = 0
        self._resets = False

    def clear_registers(self) -> None:
        """As after a reset."""
        self._latch, self._registers, self._busy_s, self._resets = {}, {}, 0.0, False

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
                raise ResetAsked
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
            # ADDR follows each write to the page buffer: the last one decides
            self._burn_page(next(reversed(self._latch)) // kind.page * kind.page, False)
        else:
            self.violation(f"NVMCTRL command {value:04X}")
            self._registers[0x41004010 if five else 0x41004014] = 2

    def _erase(self, at: int) -> None:
        at -= at % self.kind.unit
        if at < self.kind.monitor:
            self.violation(f"erase of the monitor at {at:05X}")
        self._busy_s += ERASE_S[self.kind.controller] * self.faults.slow_erase
        self.flash[at : at + self.kind.unit] = b"\xff" * len(self.flash[at : at + self.kind.unit])

    def _burn_page(self, at: int, erases: bool) -> None:
        """The page buffer, which must be this page's, into the page."""
        page = self.kind.page
        latched = {where: byte for where, byte in self._latch.items() if at <= where < at + page}
        if len(latched) != page or len(self._latch) != page or at < self.kind.monitor:
            self.violation(f"page at {at:05X} written with {len(latched)} of {len(self._latch)} bytes")
        self._latch = {}
        self._busy_s += PAGE_S[self.kind.controller]
        data = bytes(latched.get(where, 0xFF) for where in range(at, at + page))
        self.put(self.base + at, data, not erases)
