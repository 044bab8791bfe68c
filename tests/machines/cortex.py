"""A Cortex-M in unicorn, with as much of an nRF5x or a SAM D21 around it as a loader uses, from the makers' documents.

An instruction takes one and a half cycles. What the documents forbid is told as V: the flash is read while it is busy,
it is written where it is not blank, a character is given while another waits.
"""

from __future__ import annotations

import random
from collections import deque
from collections.abc import Callable
from typing import Any

import unicorn as uc
from unicorn import arm_const as arm

_RAM, _PAGE = 0x20000000, 0x1000
_CYCLES = 1.5
_SLICE_US, _IDLE_READS, _ONLY_LOOKS = 100, 3, 12


class Cortex:
    """One chip. Times are whole microseconds since its last reset."""

    ram_bytes = 0x10000

    def __init__(self, flash_bytes: int, begin: int, mhz: int, m4: bool) -> None:
        self._emulator = uc.Uc(uc.UC_ARCH_ARM, uc.UC_MODE_THUMB | uc.UC_MODE_MCLASS)
        self._emulator.ctl_set_cpu_model(arm.UC_CPU_ARM_CORTEX_M4 if m4 else arm.UC_CPU_ARM_CORTEX_M0)
        self._size, self._begin, self._mhz = flash_bytes, begin, mhz
        self._emulator.mem_map(0, flash_bytes)
        self._emulator.mem_map(_RAM, self.ram_bytes)
        self._emulator.mem_write(0, b"\xff" * flash_bytes)
        self._emulator.hook_add(uc.UC_HOOK_CODE, self._reached, None, begin, flash_bytes - 1)
        self._map(0xE000E000, _PAGE, self._read_core, self._write_core)
        self._events: list[tuple[str, int]] = []
        self._random = random.Random(1)
        self._cut_in = 0
        self.requested = 0
        """What the first word of RAM holds when the chip is reset."""
        self.low = 0
        """The pins of the first port that are low, by bits."""
        self._power_up()

    # --- what runs it

    def reset(self) -> None:
        self._emulator.mem_write(_RAM, self.requested.to_bytes(4, "little"))
        self._events = []
        self.requested = 0
        self._power_up()

    def hear(self, value: int) -> None:
        if len(self._come) < self.holds:
            self._come.append(value)

    def advance(self, to_us: int) -> list[tuple[str, int]]:
        while self.on and self.now < to_us:
            if self.now < self._stands_until:
                self.now = min(to_us, self._stands_until)
                continue
            until = min(to_us, self.now + _SLICE_US)
            self._idle, self._acted_at, self._acts = 0, 0, False
            self._run(max(1, int((until - self.now) * self._mhz / _CYCLES)))
            self.now = max(until, self.now)
            if self._idle > _IDLE_READS and not self._acts:  # it waits: until something comes of itself
                waits_for = (self._tick_from + self._tick_us if self._tick_us else to_us, self.busy_until)
                self.now = max(self.now, min(to_us, *(int(at) for at in waits_for if at > self.now), to_us))
        events, self._events = self._events, []
        return events

    def cut_in(self, changes: int) -> None:
        self._cut_in = changes

    @property
    def flash(self) -> bytes:
        return bytes(self._emulator.mem_read(0, self._size))

    @flash.setter
    def flash(self, content: bytes) -> None:
        self._emulator.mem_write(0, content[: self._size])
        self._emulator.ctl_remove_cache(0, self._size)

    def interrupted(self, number: int) -> int:
        """Where the core goes on when that exception comes, by the vectors at 0: the first address outside the loader."""
        self._emulator.reg_write(arm.UC_ARM_REG_IPSR, number)
        self._pc = self._vector(4 * number)
        self.on = True
        self._run(40)
        self._emulator.reg_write(arm.UC_ARM_REG_IPSR, 0)
        events, self._events = self._events, []
        return next(value for letter, value in events if letter == "G")

    # --- the core

    def _power_up(self) -> None:
        self.now = 0
        self.on = True
        self._stands_until = 0
        self._come: deque[int] = deque()
        self._tick_from = 0
        self._tick_us = 0
        self._again = False
        self._idle, self._acted_at, self._acts = 0, 0, False
        self.busy_until = 0.0
        self._pc = self._vector(4)
        self._emulator.reg_write(arm.UC_ARM_REG_SP, self._vector(0))
        self.start_peripherals()

    def _vector(self, at: int) -> int:
        return int.from_bytes(self._emulator.mem_read(at, 4), "little")

    def _run(self, count: int) -> None:
        self._emulator.emu_start(self._pc | 1, 0xFFFFFFFE, count=count)
        self._pc = self._emulator.reg_read(arm.UC_ARM_REG_PC)
        if self._again:
            now, self._again = self.now, False
            self._power_up()
            self.now = self._tick_from = now
        self.after_running()

    def _map(self, at: int, size: int, read: Callable[..., int], write: Callable[..., None]) -> None:
        self._emulator.mmio_map(at, size, read, at, write, at)

    def _read_core(self, emulator: Any, offset: int, size: int, base: int) -> int:
        return self.read_core(offset)

    def read_core(self, offset: int) -> int:
        return 0

    def _write_core(self, emulator: Any, offset: int, size: int, value: int, base: int) -> None:
        if offset == 0xD0C and value == 0x05FA0004:  # it loops on until the slice is over
            self._again = True
        else:
            self.write_core(offset, value)

    def write_core(self, offset: int, value: int) -> None:
        return

    def _reached(self, emulator: Any, address: int, size: int, data: Any) -> None:
        self.event("G", address)
        self.on = False
        self._emulator.emu_stop()

    def event(self, letter: str, value: int) -> None:
        self._events.append((letter, value))

    # --- what chips have in common

    def has_come(self) -> bool:
        """Whether a character waits; when none does, that the loader looked is noted. Once it only looks, the rest of
        the slice would bring nothing else."""
        self._idle += not self._come
        if self._idle - self._acted_at > _ONLY_LOOKS:
            self._emulator.emu_stop()
        return bool(self._come)

    def act(self) -> None:
        """It did more than look."""
        self._acts, self._acted_at = True, self._idle

    def ticked(self) -> bool:
        """Whether the timer has come round since it was asked."""
        if self._tick_us and self.now - self._tick_from >= self._tick_us:
            self.act()
            self._tick_from += self._tick_us
            return True
        return False

    def change(self, address: int, becomes: bytes, stands_us: int) -> None:
        """The flash is changed; if the supply fails in it, some bits are as they were. The core runs on to the end of its
        slice, where it may change nothing any more."""
        if not self.on:
            return
        self.event("F", address)
        fails = self._cut_in == 1
        self._cut_in = max(0, self._cut_in - 1)
        if fails:
            old = self._emulator.mem_read(address, len(becomes))
            mask = self._random.randbytes(len(becomes))
            becomes = bytes(a ^ ((a ^ b) & m) for a, b, m in zip(old, becomes, mask, strict=True))
            self.event("X", address)
            self.on = False
        self._emulator.mem_write(address, becomes)
        self._stands_until = max(self._stands_until, self.now) + stands_us

    def old(self, address: int, size: int) -> bytes:
        return bytes(self._emulator.mem_read(address, size))

    holds = 2

    def start_peripherals(self) -> None:
        raise NotImplementedError

    def after_running(self) -> None:
        return


class Nrf5(Cortex):
    """nRF51 Series Reference Manual: UART (six characters wait), NVMC (the CPU stands still), TIMER0, GPIO."""

    holds = 6

    def __init__(self, m4: bool) -> None:
        self._page = 4096 if m4 else 1024
        self._erase_us = 85000 if m4 else 21000
        self._ficr = {0x60: 0x11223344, 0x64: 0x55667788, 0x100: 0x52832 if m4 else 0xFFFFFFFF}
        size, begin = (0x80000, 0x1000) if m4 else (0x40000, 0x800)
        self._registers: dict[int, int] = {}
        self._pending: list[tuple[int, int]] = []
        super().__init__(size, begin, 64 if m4 else 16, m4)
        self._map(0x10000000, _PAGE, self._read_ficr, lambda *_: None)
        for base in (0x40000000, 0x40002000, 0x40008000, 0x4001E000, 0x50000000):
            self._map(base, _PAGE, self._read, self._write)
        self._emulator.hook_add(uc.UC_HOOK_MEM_WRITE, self._stored, None, 0, size - 1)

    def _read_ficr(self, emulator: Any, offset: int, size: int, base: Any) -> int:
        return self._ficr.get(offset & ~3, 0xFFFFFFFF) >> 8 * (offset & 3)

    def start_peripherals(self) -> None:
        self._registers = {0x40008508: 0, 0x40008510: 4}
        self._tx_until = 0.0
        self._sent = False
        self._ready_at: float | None = None

    def _read(self, emulator: Any, offset: int, size: int, base: int) -> int:
        at = base + offset
        if at == 0x40002108:
            return int(self.has_come())
        if at == 0x40002518:
            return self._come.popleft() if self._come else 0
        if at == 0x4000211C:
            if self._ready_at is not None and self.now >= self._ready_at:
                self._sent, self._ready_at = True, None
            return int(self._sent)
        if at == 0x40008140:
            if self.ticked():
                self._registers[at] = 1
        elif at == 0x4001E400:
            return 1
        elif at == 0x50000510:
            return ~self.low & 0xFFFFFFFF
        return self._registers.get(at, 0)

    def _write(self, emulator: Any, offset: int, size: int, value: int, base: int) -> None:
        at = base + offset
        self.act()
        self._registers[at] = value
        if at == 0x4000211C:
            self._sent = bool(value)
        elif at == 0x4000251C:
            if self._ready_at is not None and self.now < self._ready_at:
                self.event("V", at)
            self._tx_until = max(self._tx_until, self.now) + 1e7 / self._baud
            self._ready_at = self._tx_until
            self.event("S", value & 0xFF)
        elif at in (0x40002500, 0x40002524):
            if self._registers.get(0x40002500) == 4:
                self.event("B", round(self._baud / 100) * 100)
        elif at == 0x40008000:
            scale = 16 / (1 << self._registers[0x40008510])
            self._tick_us = int(self._registers.get(0x40008540, 0) / scale)
            self._tick_from = self.now
        elif at == 0x4001E508:
            if self._registers.get(0x4001E504) != 2 or value % self._page:
                self.event("V", at)
            self.change(value, b"\xff" * self._page, self._erase_us)

    @property
    def _baud(self) -> float:
        return self._registers.get(0x40002524, 0x01D7E000) * 16e6 / (1 << 32)

    def _stored(self, emulator: Any, access: int, address: int, size: int, value: int, data: Any) -> None:
        if self._registers.get(0x4001E504) != 1 or size != 4 or address % 4:
            self.event("V", address)
        self._pending.append((address, int.from_bytes(self.old(address, 4), "little") & value))
        self._emulator.emu_stop()

    def after_running(self) -> None:
        if self._pending:  # unicorn stops with the store done, and stands on it
            first = int.from_bytes(self.old(self._pc, 2), "little")
            self._pc += 4 if first >> 11 >= 0b11101 else 2
        for address, value in self._pending:
            self.change(address, (value & 0xFFFFFFFF).to_bytes(4, "little"), 46)
        self._pending.clear()


class SamD21(Cortex):
    """DS40001882: SERCOM0 as a USART, NVMCTRL, SysTick."""

    ram_bytes = 0x8000
    _ROW, _PAGE_BYTES = 256, 64

    def __init__(self) -> None:
        self._registers: dict[int, int] = {}
        super().__init__(0x40000, 0x800, 8, False)
        self._map(0x40000000, _PAGE, self._read, self._write)
        self._map(0x41002000, _PAGE, self._read, self._write)
        self._map(0x41004000, _PAGE, self._read, self._write)
        self._map(0x42000000, 2 * _PAGE, self._read, self._write)
        self._map(0x0080A000, _PAGE, lambda _u, at, _s, _b: at * 0x01010101 & 0xFFFFFFFF, lambda *_: None)
        self._emulator.hook_add(uc.UC_HOOK_MEM_WRITE, self._buffered, None, 0, 0x3FFFF)
        self._emulator.hook_add(uc.UC_HOOK_MEM_READ, self._looked, None, 0, 0x3FFFF)

    def start_peripherals(self) -> None:
        self._registers = {0x40000820: 0x300, 0x41002018: 0x10010305}
        self._buffer: dict[int, int] = {}
        self._undo: list[tuple[int, bytes]] = []
        self._tx_until = 0.0
        self._waiting: float | None = None

    def read_core(self, offset: int) -> int:
        return (1 << 16 if self.ticked() else 0) if offset == 0x10 else 0

    def write_core(self, offset: int, value: int) -> None:
        if offset == 0x14:
            self._tick_us = (value + 1) // self._mhz
            self._tick_from = self.now

    def _read(self, emulator: Any, offset: int, size: int, base: int) -> int:
        at = base + offset
        if at == 0x42000818:
            room = self._waiting is None or self.now >= self._waiting
            return (1 if room else 0) | (2 if self.now >= self._tx_until else 0) | (4 if self.has_come() else 0)
        if at == 0x42000828:
            return self._come.popleft() if self._come else 0
        if at == 0x41004014:
            return int(self.now >= self.busy_until)
        if at == 0x41004420:
            return ~self.low & 0xFFFFFFFF
        return 0 if at == 0x4200081C else self._registers.get(at, 0)

    def _write(self, emulator: Any, offset: int, size: int, value: int, base: int) -> None:
        at = base + offset
        self.act()
        self._registers[at] = value
        if at == 0x42000828:
            if self._waiting is not None and self.now < self._waiting:
                self.event("V", at)
            self._waiting = max(self.now, self._tx_until)
            self._tx_until = self._waiting + 1e7 / self._baud
            self.event("S", value & 0xFF)
        elif at == 0x42000800 and value & 2:
            if self._registers.get(0x40000820, 0) & 0x300 or value & 0x1C != 4 or not value >> 30 & 1:
                self.event("V", at)
            self.event("B", round(self._baud / 100) * 100)
        elif at == 0x41004000:
            self._command(value)

    @property
    def _baud(self) -> float:
        return 8e6 / 16 * (1 - (self._registers.get(0x4200080C, 0) & 0xFFFF) / 65536)

    def _command(self, value: int) -> None:
        at = (self._registers.get(0x4100401C, 0) * 2) & ~(self._PAGE_BYTES - 1)
        if value >> 8 != 0xA5 or self.now < self.busy_until:
            self.event("V", value)
        if value & 0x7F == 0x44:
            self._buffer.clear()
            return
        if value & 0x7F == 0x02:
            row = at & ~(self._ROW - 1)
            self.change(row, b"\xff" * self._ROW, 0)
            self.busy_until = self.now + 6000
        elif value & 0x7F == 0x04:
            self.after_running()
            data = bytearray(b"\xff" * self._PAGE_BYTES)
            for place, word in self._buffer.items():
                if place & ~(self._PAGE_BYTES - 1) != at:
                    self.event("V", place)
                data[place - at : place - at + 4] = word.to_bytes(4, "little")
            self.change(at, bytes(a & b for a, b in zip(self.old(at, self._PAGE_BYTES), data, strict=True)), 0)
            self.busy_until = self.now + 2500
            self._buffer.clear()
        else:
            self.event("V", value)

    def _buffered(self, emulator: Any, access: int, address: int, size: int, value: int, data: Any) -> None:
        if size != 4 or address % 4 or self.now < self.busy_until:
            self.event("V", address)
        self._buffer[address] = value & 0xFFFFFFFF
        self._undo.append((address, self.old(address, 4)))

    def _looked(self, emulator: Any, access: int, address: int, size: int, value: int, data: Any) -> None:
        if self.now < self.busy_until:
            self.event("V", address)

    def after_running(self) -> None:
        """A store goes into the page buffer, not into the flash."""
        for address, was in reversed(self._undo):
            self._emulator.mem_write(address, was)
        self._undo.clear()
