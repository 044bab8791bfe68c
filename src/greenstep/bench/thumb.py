"""A processor for programs that a simulated chip is given to run: the 16-bit instructions of ARMv6-M (ARM DDI 0419,
"The Thumb instruction set encoding"), as far as programs without interrupts use them. Anything else is a fault."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

_MASK = 0xFFFFFFFF
_SP, _LR, _PC = 13, 14, 15
RETURN = 0xFFFFFFFE
"""Where a called program returns to."""


class Bus(Protocol):
    """What the processor is connected to. Addresses that lead nowhere raise ThumbFault."""

    def load(self, address: int, size: int) -> int: ...

    def store(self, address: int, size: int, value: int) -> None: ...


class ThumbFault(Exception):
    """An instruction, or an address, that there is not."""


class ThumbCpu:
    """Registers, flags and a bus."""

    def __init__(self, bus: Bus) -> None:
        self.bus = bus
        self.r = [0] * 16
        self.n = self.z = self.c = self.v = False
        self.count = 0

    def call(self, address: int, stack: int, most: int) -> bool:
        """Run a program from an address until it returns. False if it has not after `most` instructions. Raises
        ThumbFault."""
        r, load = self.r, self.bus.load
        r[_SP], r[_LR], r[_PC] = stack, RETURN | 1, address & ~1
        if not address & 1:
            raise ThumbFault("not Thumb code")
        for self.count in range(1, most + 1):
            at = r[_PC]
            if at == RETURN:
                return True
            half = load(at, 2)
            r[_PC] = at + 2
            step = _DECODED.get(half)
            if step is None:
                step = _DECODED[half] = _decode(half)
            step(self)
        return False

    def set_nz(self, value: int) -> int:
        value &= _MASK
        self.n, self.z = value >> 31 != 0, value == 0
        return value

    def add(self, one: int, other: int, carry: int) -> int:
        """With all flags; subtraction adds the inverse."""
        whole = one + other + carry
        value = self.set_nz(whole)
        self.c = whole > _MASK
        self.v = (~(one ^ other) & (one ^ value)) >> 31 & 1 != 0
        return value

    def holds(self, condition: int) -> bool:
        n, z, c, v = self.n, self.z, self.c, self.v
        return (
            z, not z, c, not c, n, not n, v, not v, c and not z, not c or z, n == v, n != v, not z and n == v,
            z or n != v,
        )[condition]  # fmt: skip


Step = Callable[[ThumbCpu], None]
_DECODED: dict[int, Step] = {}


def _decode(half: int) -> Step:
    """The instruction of a halfword. Raises ThumbFault."""
    top = half >> 10
    if half < 0x4000:
        return _immediate(half)
    if top == 0x10:
        return _processing(half)
    if top == 0x11:
        return _high(half)
    if half >> 11 == 0x09:
        return _literal(half)
    if half >> 12 == 0x05:
        return _by_register(half)
    if 0x6000 <= half < 0xA000:
        return _by_offset(half)
    if half >> 12 == 0x0B:
        return _miscellaneous(half)
    if half >> 12 == 0x0D and half >> 8 & 0xF < 0xE:
        return _branch_if(half)
    if half >> 11 == 0x1C:
        return _branch(half)
    raise ThumbFault(f"instruction {half:04X}")


def _immediate(half: int) -> Step:
    """A5.2.1: shift, add, subtract, move and compare."""
    kind, rd, rm, five = half >> 11, half & 7, half >> 3 & 7, half >> 6 & 31
    rx, eight = half >> 8 & 7, half & 0xFF

    def lsl(cpu: ThumbCpu) -> None:
        if five:
            cpu.c = cpu.r[rm] >> 32 - five & 1 != 0
        cpu.r[rd] = cpu.set_nz(cpu.r[rm] << five)

    def lsr(cpu: ThumbCpu) -> None:
        shift = five or 32
        cpu.c = cpu.r[rm] >> shift - 1 & 1 != 0
        cpu.r[rd] = cpu.set_nz(cpu.r[rm] >> shift)

    def asr(cpu: ThumbCpu) -> None:
        shift, value = five or 32, cpu.r[rm] - (cpu.r[rm] >> 31 << 32)
        cpu.c = value >> shift - 1 & 1 != 0
        cpu.r[rd] = cpu.set_nz(value >> shift)

    def add_or_subtract(cpu: ThumbCpu) -> None:
        other = half >> 6 & 7 if half & 0x400 else cpu.r[half >> 6 & 7]
        cpu.r[rd] = cpu.add(cpu.r[rm], other ^ _MASK, 1) if half & 0x200 else cpu.add(cpu.r[rm], other, 0)

    def move(cpu: ThumbCpu) -> None:
        cpu.r[rx] = cpu.set_nz(eight)

    def compare(cpu: ThumbCpu) -> None:
        cpu.add(cpu.r[rx], eight ^ _MASK, 1)

    def add(cpu: ThumbCpu) -> None:
        cpu.r[rx] = cpu.add(cpu.r[rx], eight, 0)

    def subtract(cpu: ThumbCpu) -> None:
        cpu.r[rx] = cpu.add(cpu.r[rx], eight ^ _MASK, 1)

    return (lsl, lsr, asr, add_or_subtract, move, compare, add, subtract)[kind]


def _processing(half: int) -> Step:
    """A5.2.2: data processing of two registers."""
    rd, rm, kind = half & 7, half >> 3 & 7, half >> 6 & 15

    def shifted(cpu: ThumbCpu) -> None:
        amount, value = cpu.r[rm] & 0xFF, cpu.r[rd]
        if amount:
            if kind == 2:
                cpu.c = amount <= 32 and value >> 32 - amount & 1 != 0 if amount <= 32 else False
                value = value << amount if amount < 32 else 0
            else:
                cpu.c = amount <= 32 and value >> amount - 1 & 1 != 0
                value >>= min(amount, 32)
        cpu.r[rd] = cpu.set_nz(value)

    def logical(cpu: ThumbCpu) -> None:
        one, other = cpu.r[rd], cpu.r[rm]
        value = {0: one & other, 1: one ^ other, 12: one | other, 13: one * other, 14: one & ~other, 15: ~other}[kind]
        cpu.r[rd] = cpu.set_nz(value)

    def exclusive(cpu: ThumbCpu) -> None:
        cpu.r[rd] = cpu.set_nz(cpu.r[rd] ^ cpu.r[rm])

    def test(cpu: ThumbCpu) -> None:
        cpu.set_nz(cpu.r[rd] & cpu.r[rm])

    def compare(cpu: ThumbCpu) -> None:
        cpu.add(cpu.r[rd], cpu.r[rm] ^ _MASK, 1)

    def negate(cpu: ThumbCpu) -> None:
        cpu.r[rd] = cpu.add(cpu.r[rm] ^ _MASK, 0, 1)

    def with_carry(cpu: ThumbCpu) -> None:
        other = cpu.r[rm] if kind == 5 else cpu.r[rm] ^ _MASK
        cpu.r[rd] = cpu.add(cpu.r[rd], other, int(cpu.c))

    steps: dict[int, Step] = {2: shifted, 3: shifted, 8: test, 9: negate, 10: compare, 5: with_carry, 6: with_carry}
    steps |= {0: logical, 1: exclusive, 12: logical, 13: logical, 14: logical, 15: logical}
    if kind not in steps:
        raise ThumbFault(f"instruction {half:04X}")
    return steps[kind]


def _high(half: int) -> Step:
    """A5.2.3: moves of any register, branches to one."""
    rd, rm, kind = half & 7 | half >> 4 & 8, half >> 3 & 15, half >> 8 & 3

    def move(cpu: ThumbCpu) -> None:
        cpu.r[rd] = cpu.r[rm] & ~1 if rd == _PC else cpu.r[rm]

    def branch(cpu: ThumbCpu) -> None:
        target = cpu.r[rm]
        if half & 0x80:
            cpu.r[_LR] = cpu.r[_PC] | 1
        _jump(cpu, target)

    if kind not in (2, 3):
        raise ThumbFault(f"instruction {half:04X}")
    return move if kind == 2 else branch


def _jump(cpu: ThumbCpu, target: int) -> None:
    if not target & 1:
        raise ThumbFault(f"jump to {target:08X}, which is not Thumb code")
    cpu.r[_PC] = target & ~1


def _literal(half: int) -> Step:
    rt, offset = half >> 8 & 7, (half & 0xFF) * 4

    def load(cpu: ThumbCpu) -> None:
        cpu.r[rt] = cpu.bus.load((cpu.r[_PC] + 2 & ~3) + offset, 4)

    return load


def _by_register(half: int) -> Step:
    rt, rn, rm, kind = half & 7, half >> 3 & 7, half >> 6 & 7, half >> 9 & 7
    size = {0: 4, 1: 2, 2: 1, 4: 4, 5: 2, 6: 1}.get(kind)
    if size is None:
        raise ThumbFault(f"instruction {half:04X}")
    width = size

    def load(cpu: ThumbCpu) -> None:
        cpu.r[rt] = cpu.bus.load(cpu.r[rn] + cpu.r[rm] & _MASK, width)

    def store(cpu: ThumbCpu) -> None:
        cpu.bus.store(cpu.r[rn] + cpu.r[rm] & _MASK, width, cpu.r[rt])

    return load if kind >= 4 else store


def _by_offset(half: int) -> Step:
    """A5.2.4: word, byte, halfword, and those relative to the stack."""
    rt, rn, five, loads = half & 7, half >> 3 & 7, half >> 6 & 31, half & 0x800
    if half >= 0x9000:
        rt, rn, size, offset = half >> 8 & 7, _SP, 4, (half & 0xFF) * 4
    else:
        size = {6: 4, 7: 1, 8: 2}[half >> 12]
        offset = five * size

    def load(cpu: ThumbCpu) -> None:
        cpu.r[rt] = cpu.bus.load(cpu.r[rn] + offset & _MASK, size)

    def store(cpu: ThumbCpu) -> None:
        cpu.bus.store(cpu.r[rn] + offset & _MASK, size, cpu.r[rt])

    return load if loads else store


def _miscellaneous(half: int) -> Step:
    """A5.2.5: stack, extensions, hints."""
    rd, rm = half & 7, half >> 3 & 7

    def push(cpu: ThumbCpu) -> None:
        saved = [cpu.r[at] for at in range(8) if half >> at & 1] + ([cpu.r[_LR]] if half & 0x100 else [])
        cpu.r[_SP] -= 4 * len(saved)
        for index, value in enumerate(saved):
            cpu.bus.store(cpu.r[_SP] + 4 * index, 4, value)

    def pop(cpu: ThumbCpu) -> None:
        for at in range(8):
            if half >> at & 1:
                cpu.r[at] = cpu.bus.load(cpu.r[_SP], 4)
                cpu.r[_SP] += 4
        if half & 0x100:
            target = cpu.bus.load(cpu.r[_SP], 4)
            cpu.r[_SP] += 4
            _jump(cpu, target)

    def extend(cpu: ThumbCpu) -> None:
        value = cpu.r[rm] & (0xFF if half & 0x40 else 0xFFFF)
        if not half & 0x80:
            top = 0x80 if half & 0x40 else 0x8000
            value = (value ^ top) - top & _MASK
        cpu.r[rd] = value

    def nothing(cpu: ThumbCpu) -> None:
        return

    if half >> 9 in (0x5A, 0x5E):
        return push if half >> 9 == 0x5A else pop
    if half >> 8 == 0xB2:
        return extend
    if half == 0xBF00:
        return nothing
    raise ThumbFault(f"instruction {half:04X}")


def _branch_if(half: int) -> Step:
    condition, distance = half >> 8 & 15, 2 * ((half & 0xFF ^ 0x80) - 0x80) + 2

    def branch(cpu: ThumbCpu) -> None:
        if cpu.holds(condition):
            cpu.r[_PC] += distance

    def if_zero(cpu: ThumbCpu) -> None:
        if cpu.z:
            cpu.r[_PC] += distance

    def if_not(cpu: ThumbCpu) -> None:
        if not cpu.z:
            cpu.r[_PC] += distance

    return {0: if_zero, 1: if_not}.get(condition, branch)


def _branch(half: int) -> Step:
    distance = 2 * ((half & 0x7FF ^ 0x400) - 0x400) + 2

    def branch(cpu: ThumbCpu) -> None:
        cpu.r[_PC] += distance

    return branch
