"""Addresses by function, file and line: against binutils on C that gcc has compiled, and where DWARF says nothing."""

from __future__ import annotations

import random
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path
from typing import ClassVar

from greenstep.core.console.addresses import Mentioned, in_words, mentioned, places
from greenstep.core.console.elf_program import Program
from greenstep.core.errors import UsageFault

HEADER = "#include <stdint.h>\nextern volatile uint32_t port;\n" + "".join(
    f"static inline uint32_t mix{n}(uint32_t a, uint32_t b)\n{{\n    a ^= b + {n};\n    port = a;\n    return a * {n + 3};\n}}\n"
    for n in range(6)
)
ADDRESSES = 1000


def unit(name: str, seed: int) -> str:
    """A file of functions with loops and calls, some of them inlined into others."""
    dice, text = random.Random(seed), '#include "hive.h"\n'
    for number in range(30):
        calls = [dice.randrange(6) for _ in range(4)]
        known = "" if number in (0, 29) or number % 3 == 0 else "static __attribute__((noinline)) "
        text += f"""{known}uint32_t {name}_{number}(uint32_t x)
{{
    uint32_t y = mix{calls[0]}(x, {number});
    for (uint32_t n = 0; n < (x & 7); n++) {{
        y += mix{calls[1]}(y, n);
        if (y & 1)
            y = mix{calls[2]}(y, mix{calls[3]}(y, x));
    }}
    return y{f" ^ {name}_{number - 1}(y)" if number else ""};
}}
"""
    return text


def by_binutils(elf: Path, addresses: list[int]) -> list[list[tuple[str, str, str]]]:
    """(function, file, line) of each address, inlined calls first."""
    asked = ["addr2line", "-e", str(elf), "-f", "-i", "-a", *map(hex, addresses)]
    lines = iter(subprocess.run(asked, capture_output=True, text=True, check=True).stdout.splitlines())
    answers: list[list[tuple[str, str, str]]] = []
    for line in lines:
        if line.startswith("0x"):
            answers.append([])
            continue
        file, _, number = next(lines).partition(" (discriminator")[0].rpartition(":")
        answers[-1].append((line, file, number))
    return answers


@unittest.skipUnless(shutil.which("gcc") and shutil.which("addr2line"), "needs gcc and binutils")
class Compiled(unittest.TestCase):
    folder: ClassVar[Path]

    @classmethod
    def setUpClass(cls) -> None:
        holder = tempfile.TemporaryDirectory(prefix="greenstep-test-")
        cls.addClassCleanup(holder.cleanup)
        cls.folder = Path(holder.name)
        (cls.folder / "hive.h").write_text(HEADER)
        names = ("lift", "scale", "fan")
        for seed, name in enumerate(names):
            (cls.folder / f"{name}.c").write_text(unit(name, seed))
        calls = "".join(f"    x = {name}_29(x);\n" for name in names)
        declared = "".join(f"uint32_t {name}_29(uint32_t);\n" for name in names)
        (cls.folder / "main.c").write_text(
            f'#include "hive.h"\nvolatile uint32_t port;\n{declared}int main(void)\n{{\n    uint32_t x = port;\n{calls}    return (int)x;\n}}\n'
        )

    def built(self, *options: str) -> Path:
        made = self.folder / ("-".join(options).replace("=", "") + ".elf")
        files = ("lift.c", "scale.c", "fan.c", "main.c")
        subprocess.run(
            ["gcc", "-O2", "-no-pie", *options, "-o", made.name, *files],
            cwd=self.folder, check=True, capture_output=True,
        )  # fmt: skip
        return made

    def functions_of(self, elf: Path) -> list[tuple[int, int]]:
        """Where each compiled function begins and ends: between them is padding."""
        rows = subprocess.run(["nm", "-S", str(elf)], capture_output=True, text=True, check=True).stdout.splitlines()
        named = [row.split() for row in rows if row.split()[-1].startswith(("lift_", "scale_", "fan_"))]
        return [(int(start, 16), int(start, 16) + int(size, 16)) for start, size, _, _ in named]

    def test_a_thousand_addresses_are_where_binutils_says(self) -> None:
        for options, number in ((("-g",), ADDRESSES), (("-gdwarf-4",), 200), (("-g", "-ffunction-sections"), 200)):
            with self.subTest(options=options):
                elf = self.built(*options)
                dice = random.Random(7)
                functions = self.functions_of(elf)
                addresses = [dice.randrange(*dice.choice(functions)) for _ in range(number)]
                program = Program.open(elf)
                found = [
                    [(frame.function, frame.file, str(frame.line or "?")) for frame in program.frames(address)]
                    for address in addresses
                ]
                self.assertEqual(found, by_binutils(elf, addresses))
                self.assertTrue(any(len(frames) > 2 for frames in found), "nothing was inlined")

    def test_without_dwarf_the_symbols_still_name_the_function(self) -> None:
        program = Program.open(self.built("-g0"))
        self.assertFalse(program.has_lines)
        low, _ = min(self.functions_of(self.folder / "-g0.elf"))
        (frame,) = program.frames(low + 4)
        self.assertRegex(frame.function, "^(lift|scale|fan)_")
        self.assertEqual((frame.file, frame.line), ("", 0))

    def test_a_damaged_file_knows_less_and_never_fails(self) -> None:
        whole = self.built("-g").read_bytes()
        functions = self.functions_of(self.folder / "-g.elf")
        dice, damaged = random.Random(3), self.folder / "damaged.elf"
        opened = 0
        for _ in range(8):
            data = bytearray(whole[: dice.randrange(64, len(whole))] if dice.random() < 0.3 else whole)
            for _ in range(dice.randrange(1, 200)):
                data[dice.randrange(len(data))] = dice.randrange(256)
            damaged.write_bytes(data)
            try:
                program = Program.open(damaged)
            except UsageFault as fault:
                self.assertEqual(fault.finding.key, "elf-file")
                continue
            opened += 1
            for _ in range(5):
                program.frames(dice.randrange(*dice.choice(functions)))
        self.assertGreater(opened, 0)

    def test_it_is_told_in_a_line_for_each_function(self) -> None:
        elf = self.built("-g")
        program = Program.open(elf)
        low, high = min(self.functions_of(elf))
        inlined = next(address for address in range(low, high) if len(program.frames(address)) == 2)
        (place,) = places(program, f"Backtrace: 0x{inlined:08x}:0x3ffb1f50")
        first, second = in_words(place, str(self.folder))
        self.assertRegex(first, rf"^    {inlined:08X}  mix\d  hive\.h:\d+$")
        self.assertRegex(second, r"^              inlined in (lift|scale|fan)_\d+  \w+\.c:\d+$")
        (back,) = places(program, f"lr: {low + 8:08x}")
        self.assertIn("called from ", next(in_words(back, "")))


class Text(unittest.TestCase):
    def test_what_counts_as_an_address(self) -> None:
        for line, found in (
            ("Backtrace: 0x400d15f1:0x3ffb1f50 |<-CORRUPTED", [(0x400D15F1, False), (0x3FFB1F50, False)]),
            ("PC      : 0x400d15f1  PS      : 0x00060030", [(0x400D15F1, True), (0x60030, False)]),
            ("MEPC : 42001234  RA : 0x42000f10", [(0x42001234, True), (0x42000F10, True)]),
            ("hard fault: pc=0800123a lr=0x080004f1", [(0x800123A, True), (0x80004F1, True)]),
            ("stack: [<08001234>] (0x08001300) <8001310>", [(0x8001234, True), (0x8001300, True), (0x8001310, True)]),
            ("temp 0x1f, crc 5A3C91EE, at 0x12345", []),
            ("frame_0x08001234x", []),
        ):
            with self.subTest(line=line):
                self.assertEqual([(one.address, one.marked) for one in mentioned(line)], found)
        self.assertEqual(mentioned("lr: 08001235"), [Mentioned(0x8001235, returns=True, marked=True)])


if __name__ == "__main__":
    unittest.main()
