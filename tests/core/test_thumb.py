"""The bench's processor, instruction by instruction: values and flags as the ARMv6-M manual (ARM DDI 0419) has them."""

from __future__ import annotations

import unittest

from greenstep.bench.thumb import RETURN, ThumbCpu, ThumbFault

TOP = 0x80000000
ALL = 0xFFFFFFFF


class Ram:
    """4 KiB at 0."""

    def __init__(self, *halves: int) -> None:
        code = b"".join(half.to_bytes(2, "little") for half in halves)
        self.content = bytearray(code.ljust(4096, b"\x00"))

    def load(self, address: int, size: int) -> int:
        if address + size > len(self.content):
            raise ThumbFault(f"{address:08X}")
        return int.from_bytes(self.content[address : address + size], "little")

    def store(self, address: int, size: int, value: int) -> None:
        self.content[address : address + size] = (value & (1 << 8 * size) - 1).to_bytes(size, "little")


BX_LR = 0x4770


def ran(*halves: int, **registers: int) -> ThumbCpu:
    """The processor after these instructions and a return; registers as r0=…, memory is in `cpu.bus`."""
    cpu = ThumbCpu(Ram(*halves, BX_LR))
    for name, value in registers.items():
        cpu.r[int(name[1:])] = value
    assert cpu.call(1, 0x800, 200)
    return cpu


class Instructions(unittest.TestCase):
    def flags(self, cpu: ThumbCpu) -> str:
        return "".join(letter for letter, is_set in zip("nzcv", (cpu.n, cpu.z, cpu.c, cpu.v), strict=True) if is_set)

    def test_values_and_flags(self) -> None:
        for name, half, r1, r2, wanted, flags in (
            ("lsls r0, r1, 4", 0x0108, 0xF0000001, 0, 0x10, "c"),
            ("lsrs r0, r1, 1", 0x0848, 3, 0, 1, "c"),
            ("lsrs r0, r1, 32", 0x0808, TOP, 0, 0, "zc"),
            ("asrs r0, r1, 4", 0x1108, TOP, 0, 0xF8000000, "n"),
            ("adds r0, r1, r2", 0x1888, 0x7FFFFFFF, 1, TOP, "nv"),
            ("adds r0, r1, r2", 0x1888, ALL, 1, 0, "zc"),
            ("subs r0, r1, r2", 0x1A88, 5, 7, ALL - 1, "n"),
            ("subs r0, r1, r2", 0x1A88, TOP, 1, 0x7FFFFFFF, "cv"),
            ("adds r0, r1, 7", 0x1DC8, 1, 0, 8, ""),
            ("subs r0, r1, 1", 0x1E48, 1, 0, 0, "zc"),
        ):
            with self.subTest(name, r1=r1):
                cpu = ran(half, r1=r1, r2=r2)
                self.assertEqual((cpu.r[0], self.flags(cpu)), (wanted, flags))

    def test_data_processing(self) -> None:
        for name, half, r0, r1, wanted, flags in (
            ("ands", 0x4008, 0xFF00, 0x0FF0, 0x0F00, ""),
            ("eors", 0x4048, 0xFF00, 0x0FF0, 0xF0F0, ""),
            ("lsls", 0x4088, 1, 31, TOP, "n"),
            ("lsls by 32", 0x4088, 1, 32, 0, "zc"),
            ("lsrs", 0x40C8, 0x80, 4, 8, ""),
            ("lsrs by 40", 0x40C8, ALL, 40, 0, "z"),
            ("adcs", 0x4148, 1, 2, 3, ""),
            ("sbcs", 0x4188, 5, 2, 2, "c"),
            ("tst", 0x4208, 1, 2, 1, "z"),
            ("negs", 0x4248, 9, 1, ALL, "n"),
            ("cmp", 0x4288, 2, 2, 2, "zc"),
            ("orrs", 0x4308, 0xF0, 0x0F, 0xFF, ""),
            ("muls", 0x4348, 0x10000, 0x10001, 0x10000, ""),
            ("bics", 0x4388, 0xFF, 0x0F, 0xF0, ""),
            ("mvns", 0x43C8, 0, 0, ALL, "n"),
        ):
            with self.subTest(name):
                cpu = ran(half, r0=r0, r1=r1)
                self.assertEqual((cpu.r[0], self.flags(cpu)), (wanted, flags))

    def test_memory(self) -> None:
        cpu = ran(0x6048, 0x7188, 0x8108, 0x684A, 0x798B, 0x890C, r0=0x11223344, r1=0x100)
        #         str r0,[r1,4]; strb r0,[r1,6]; strh r0,[r1,8]; ldr r2,[r1,4]; ldrb r3,[r1,6]; ldrh r4,[r1,8]
        self.assertEqual(cpu.r[2:5], [0x11443344, 0x44, 0x3344])
        cpu = ran(0x5088, 0x588B, 0x5C8C, 0x5A8D, r0=0xCAFE8081, r1=0x200, r2=8)
        self.assertEqual(cpu.r[3:6], [0xCAFE8081, 0x81, 0x8081])
        cpu = ran(0x4801, BX_LR, 0x0000, 0x0000, 0x5678, 0x1234)
        self.assertEqual(cpu.r[0], 0x12345678)  # ldr r0, [pc, 4]: from the word behind the aligned pc
        cpu = ran(0x9001, 0x9A01, r0=77)
        self.assertEqual((cpu.r[2], cpu.bus.load(0x804, 4)), (77, 77))

    def test_stack_extensions_and_high_registers(self) -> None:
        cpu = ran(0xB503, 0x2000, 0x2100, 0xBC03, 0xBC04, r0=5, r1=6)
        self.assertEqual((cpu.r[:3], cpu.r[13]), ([5, 6, RETURN | 1], 0x800))
        for name, half, wanted in (
            ("sxth", 0xB208, 0xFFFF80F0), ("sxtb", 0xB248, 0xFFFFFFF0), ("uxth", 0xB288, 0x80F0), ("uxtb", 0xB2C8, 0xF0),
        ):  # fmt: skip
            self.assertEqual(ran(half, r1=0x123480F0).r[0], wanted, name)
        self.assertEqual(ran(0x4688, 0x4640, r1=9).r[0], 9)  # mov r8, r1; mov r0, r8

    def test_branches(self) -> None:
        for condition, pairs in {
            0: ((1, 1, True), (1, 2, False)), 1: ((1, 1, False), (1, 2, True)), 2: ((2, 1, True), (1, 2, False)),
            3: ((1, 2, True), (2, 1, False)), 4: ((1, 2, True), (2, 1, False)), 5: ((2, 1, True), (1, 2, False)),
            6: ((TOP, 1, True), (1, 1, False)), 8: ((2, 1, True), (1, 1, False)), 9: ((1, 1, True), (2, 1, False)),
            10: ((1, ALL, True), (ALL, 1, False)), 11: ((ALL, 1, True), (1, ALL, False)),
            12: ((1, ALL, True), (1, 1, False)), 13: ((1, 1, True), (1, ALL, False)),
        }.items():  # fmt: skip
            for r1, r2, taken in pairs:
                cpu = ran(0x2000, 0x4291, 0xD000 | condition << 8, 0x2001, 0x3002, r1=r1, r2=r2)
                self.assertEqual(cpu.r[0], 2 if taken else 3, (condition, r1, r2))
        self.assertEqual(ran(0xE000, 0x2001, 0x3004, r0=1).r[0], 5)  # b over one
        self.assertEqual(ran(0x2003, 0x3101, 0x3801, 0xD1FC).r[1], 3)  # back, three times

    def test_what_is_none_of_these_is_a_fault(self) -> None:
        for half in (0xDE00, 0xBE00, 0xF000, 0xE800, 0x4400, 0xB600):
            with self.assertRaises(ThumbFault, msg=f"{half:04X}"):
                ran(half)
        for address in (0, 0x2001):
            with self.assertRaises(ThumbFault):
                ThumbCpu(Ram(BX_LR)).call(address, 0x800, 10)
        self.assertFalse(ThumbCpu(Ram(0xE7FE)).call(1, 0x800, 1000))  # it never returns


if __name__ == "__main__":
    unittest.main()
