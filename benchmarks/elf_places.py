"""A large program's ELF file: what opening it costs, what an address costs, and whether binutils says the same.

C of many units, compiled with -O2 and -g and full of inlined calls, which takes minutes; then a thousand addresses in
the order in which no two need come from the same unit.

`python -m benchmarks.elf_places [UNITS]`; needs gcc and binutils
"""

from __future__ import annotations

import random
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from greenstep.core.console.elf_program import CallFrame, Program
from tests.core.test_source import by_binutils

ADDRESSES = 1000
LONGEST_OPENING_S, LONGEST_ADDRESS_S = 1.0, 0.010
_FUNCTIONS, _INLINED = 130, 12


def header() -> str:
    text = "#pragma once\n#include <stdint.h>\nextern volatile uint32_t port;\nstruct hive { "
    text += " ".join(f"uint32_t f{number};" for number in range(40)) + " };\n"
    for number in range(_INLINED):
        text += (
            f"static inline uint32_t mix{number}(uint32_t a, uint32_t b)\n{{\n    a ^= b + {number};\n    port = a;\n"
        )
        text += f"    return a * {2 * number + 3};\n}}\n"
    return text


def unit(number: int) -> str:
    dice, text = random.Random(number), '#include "hive.h"\n'
    for function in range(_FUNCTIONS):
        calls = [dice.randrange(_INLINED) for _ in range(4)]
        seen = "static __attribute__((noinline)) " if function % 3 else ""
        further = f"    y ^= u{number}_{function - 1}(y, c);\n" if function else ""
        text += f"""{seen}uint32_t u{number}_{function}(uint32_t x, struct hive *c)
{{
    uint32_t y = mix{calls[0]}(x, c->f{calls[0]});
    for (uint32_t n = 0; n < (x & 7); n++) {{
        y += mix{calls[1]}(y, n);
        if (y & 1)
            y = mix{calls[2]}(y, mix{calls[3]}(y, x));
    }}
{further}    c->f1 = y;
    return y;
}}
"""
    return text


def built(folder: Path, units: int) -> Path:
    last = (_FUNCTIONS - 1) // 3 * 3
    (folder / "hive.h").write_text(header())
    declared = "".join(f"uint32_t u{n}_{last}(uint32_t x, struct hive *c);\n" for n in range(units))
    calls = "".join(f"    x = u{n}_{last}(x, &c);\n" for n in range(units))
    main_text = (
        f'#include "hive.h"\nvolatile uint32_t port;\n{declared}int main(void)\n{{\n    struct hive c = {{0}};\n'
    )
    (folder / "main.c").write_text(f"{main_text}    uint32_t x = port;\n{calls}    return (int)x;\n}}\n")
    names = ["main", *(f"u{n}" for n in range(units))]
    for number, name in enumerate(names[1:]):
        (folder / f"{name}.c").write_text(unit(number))

    def compiled(name: str) -> None:
        subprocess.run(["gcc", "-O2", "-g", "-c", f"{name}.c", "-o", f"{name}.o"], cwd=folder, check=True)

    with ThreadPoolExecutor(2) as workers:
        list(workers.map(compiled, names))
    words = ["gcc", "-O2", "-g", "-no-pie", "-o", "app.elf", *(f"{name}.o" for name in names)]
    subprocess.run(words, cwd=folder, check=True)
    return folder / "app.elf"


def functions(elf: Path) -> list[tuple[int, int]]:
    rows = subprocess.run(["nm", "-S", str(elf)], capture_output=True, text=True, check=True).stdout.splitlines()
    named = [row.split() for row in rows if row.split()[-1].startswith("u") and len(row.split()) == 4]
    return [(int(start, 16), int(start, 16) + int(size, 16)) for start, size, _, _ in named]


def told(frames: tuple[CallFrame, ...]) -> list[tuple[str, str, str]]:
    return [(frame.function, frame.file, str(frame.line or "?")) for frame in frames]


def main() -> int:
    units = int(sys.argv[1]) if len(sys.argv) > 1 else 135
    with tempfile.TemporaryDirectory() as name:
        elf = built(Path(name), units)
        size = elf.stat().st_size
        began = time.process_time()
        program = Program.open(elf)
        opening = time.process_time() - began
        dice, places = random.Random(1), functions(elf)
        addresses = [dice.randrange(*dice.choice(places)) for _ in range(ADDRESSES)]
        took, found = [], []
        for address in addresses:
            began = time.process_time()
            found.append(told(program.frames(address)))
            took.append(time.process_time() - began)
        agree = sum(one == other for one, other in zip(found, by_binutils(elf, addresses), strict=True))
    mean, later = sum(took) / len(took), sorted(took[ADDRESSES // 2 :])
    print(
        f"{size / (1 << 20):.1f} MiB of ELF in {units + 1} units: opened in {opening:.2f} s (at most {LONGEST_OPENING_S:g})"
    )
    print(
        f"{ADDRESSES} addresses: {1000 * mean:.1f} ms each (at most {1000 * LONGEST_ADDRESS_S:g}), the first in a unit included"
    )
    print(
        f"of the second half, half take at most {1000 * later[len(later) // 2]:.1f} ms, the slowest {1000 * later[-1]:.0f} ms"
    )
    print(f"{agree} of {ADDRESSES} as addr2line has them: function, file and line, inlined frames too")
    return 0 if opening <= LONGEST_OPENING_S and mean <= LONGEST_ADDRESS_S and agree == ADDRESSES else 1


if __name__ == "__main__":
    sys.exit(main())
