"""Build the loaders: `python loaders/build.py [FOLDER]`, into the package unless a folder is named.

C and AVR assembler by the compiler of pip's ziglang, PIC18 by gputils' gpasm; what there is no compiler
for is left out, and said. Beside the images stands which sources, in which state, they were made of.
"""

from __future__ import annotations

import hashlib
import importlib.util
import shutil
import subprocess
import sys
import tempfile
import tomllib
from pathlib import Path
from typing import Any

HERE = Path(__file__).parent
PACKAGE = HERE.parent / "src" / "greenstep" / "core" / "loaders"
PLAN: dict[str, Any] = tomllib.loads((HERE / "build.toml").read_text())
_SOURCES = {
    "avr": ("avr/doorstep.S", "avr/link.ld"),
    "nrf5": ("core/doorstep.c", "core/cortex.c", "core/cortex.h", "core/cortex.ld", "nrf5/port.h"),
    "samd21": ("core/doorstep.c", "core/cortex.c", "core/cortex.h", "core/cortex.ld", "samd21/port.h"),
    "pic18": ("pic18/doorstep.asm",),
}
_FLAGS = (
    "-Oz", "-std=c11", "-Wall", "-Wextra", "-Werror", "-ffreestanding", "-fno-stack-protector", "-fno-unwind-tables",
    "-fno-sanitize=all", "-fno-jump-tables", "-mllvm", "-disable-lsr",
)  # fmt: skip


def rows() -> dict[str, dict[str, Any]]:
    return {name: row for name, row in PLAN.items() if isinstance(row, dict)}


def source_hash(row: dict[str, Any]) -> str:
    """Of the sources of an image, and of its row in the plan."""
    digest = hashlib.sha256(repr(sorted(row.items())).encode())
    for name in _SOURCES[row["family"]]:
        digest.update((HERE / name).read_bytes())
    return digest.hexdigest()


def has_zig() -> bool:
    """Whether the compiler is there that the images in the package were made with."""
    if importlib.util.find_spec("ziglang") is None:
        return False
    return _said(sys.executable, "-m", "ziglang", "version") == PLAN["zig"]


def _said(*command: str) -> str:
    return subprocess.run(command, check=True, capture_output=True, text=True).stdout.strip()


def _run(*command: str) -> None:
    done = subprocess.run(command, capture_output=True, text=True)
    if done.returncode:
        raise SystemExit(f"{' '.join(command)}\n{done.stdout}{done.stderr}")


def image(name: str, folder: Path) -> bytes | None:
    """The image, of `room` bytes; None if there is no compiler for it."""
    row = rows()[name]
    if row["family"] == "pic18":
        return _pic18(row, folder) if shutil.which("gpasm") else None
    if not has_zig():
        return None
    symbols = [f"-D{key}={value}" for key, value in row["symbols"].items()]
    zig, made, linked = (sys.executable, "-m", "ziglang"), str(folder / "made.o"), folder / "linked"
    if row["family"] == "avr":
        # the name says which instructions there are; all that differs otherwise is in the symbols
        chip = "atmega644" if name == "atmega644p" else name
        _run(*zig, "cc", "-target", "avr-freestanding-none", f"-mcpu={chip}", "-c", "-x", "assembler-with-cpp",
             *symbols, f"-DROOM={row['room']}", str(HERE / "avr/doorstep.S"), "-o", made)  # fmt: skip
        values = {"FLASH_BYTES": row["symbols"]["FLASH_BYTES"], "ROOM": row["room"]}
        script = HERE / "avr/link.ld"
    else:
        _run(*zig, "cc", "-target", "thumb-freestanding-eabi", f"-mcpu={row['cpu']}", *_FLAGS, *symbols,
             f"-I{HERE / 'core'}", f"-I{HERE / row['family']}", "-c", str(HERE / "core/cortex.c"),
             "-o", made)  # fmt: skip
        values = {"ROOM": row["room"], "IN_RAM": row.get("in_ram", 0), "stack_top": row["stack_top"]}
        script = HERE / "core/cortex.ld"
    defined = [f"--defsym={key}={value}" for key, value in values.items()]
    _run(*zig, "ld.lld", *defined, "-T", str(script), "-e", "0", made, "-o", str(linked))
    return _loaded(linked.read_bytes(), row["at"], row["room"])


def _loaded(elf: bytes, at: int, room: int) -> bytes:
    """What the loadable sections of an ELF of 32 bits put into the flash, where they are stored (System V ABI,
    chapter 5)."""

    def word(place: int, size: int = 4) -> int:
        return int.from_bytes(elf[place : place + size], "little")

    flash = bytearray(b"\xff") * room
    table, each, number = word(28), word(42, 2), word(44, 2)
    for header in range(table, table + each * number, each):
        kind, offset, _, stored, size = (word(header + 4 * field) for field in range(5))
        if kind == 1 and size and at <= stored and stored + size <= at + room:
            flash[stored - at : stored - at + size] = elf[offset : offset + size]
    return bytes(flash)


def _pic18(row: dict[str, Any], folder: Path) -> bytes:
    symbols = [word for key, value in row["symbols"].items() for word in ("-D", f"{key}={value}")]
    hex_file = folder / "made.hex"
    _run("gpasm", "-p", row["processor"], *symbols, "-o", str(hex_file), str(HERE / "pic18/doorstep.asm"))
    flash = bytearray(b"\xff") * row["room"]
    base = 0
    for line in hex_file.read_text().split():
        record = bytes.fromhex(line[1:])
        address, kind, data = base + int.from_bytes(record[1:3], "big"), record[3], record[4:-1]
        if kind == 4:
            base = int.from_bytes(data, "big") << 16
        elif kind == 0 and address + len(data) <= row["room"]:
            flash[address : address + len(data)] = data
    return bytes(flash)


def listed(name: str, made: bytes) -> str:
    """The image's row in the package."""
    row = rows()[name]
    chips = ", ".join(f'"{chip}"' for chip in row["chips"])
    return (
        f'[{name}]\nfamily = "{row["family"]}"\nchips = [{chips}]\nat = 0x{row["at"]:X}\nroom = {row["room"]}\n'
        f'facts = {row["facts"]}\nsha256 = "{hashlib.sha256(made).hexdigest()}"\nsource = "{source_hash(row)}"\n'
    )


def main() -> int:
    target = Path(sys.argv[1]) if len(sys.argv) > 1 else PACKAGE
    target.mkdir(parents=True, exist_ok=True)
    index = ["# Made by loaders/build.py: the loaders, and what they were made of.\n"]
    missing = []
    for name in rows():
        with tempfile.TemporaryDirectory() as folder:
            made = image(name, Path(folder))
        kept = target / f"{name}.bin"
        if made is None:
            missing.append(name)
            if not kept.is_file():
                continue
            made = kept.read_bytes()
        kept.write_bytes(made)
        index.append(listed(name, made))
        print(f"{name:<14} {len(made.rstrip(bytes([255]))):>6,} of {len(made):,} bytes")
    (target / "images.toml").write_text("\n".join(index))
    if missing:
        print(f"no compiler for {', '.join(missing)} (zig {PLAN['zig']} by pip, gpasm by gputils): left as they were")
    return 1 if missing else 0


if __name__ == "__main__":
    sys.exit(main())
