"""The machines that a C compiler makes: the portable loader on this computer, its fuzzer, an AVR in simavr,
and a PIC18 in gpsim."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).parents[2]
FOLDER = ROOT / "build" / "loaders"
_HOST = ROOT / "loaders" / "machines" / "host"
_STRICT = ("-std=c11", "-O1", "-g", "-Wall", "-Wextra", "-Wno-type-limits", "-Werror")
_SANITIZED = ("-fsanitize=address,undefined", "-fno-sanitize-recover=all")


def _compile(to: str, *words: str) -> None:
    FOLDER.mkdir(parents=True, exist_ok=True)
    subprocess.run(["cc", *_STRICT, *words, "-o", str(FOLDER / to)], check=True)


def build() -> None:
    """All of them. Raises CalledProcessError."""
    for kind in (1, 2):
        usual = (f"-DDOOR_KIND={kind}", f"-I{ROOT / 'loaders' / 'core'}", f"-I{_HOST}")
        _compile(f"portable-{kind}", *_SANITIZED, *usual, str(_HOST / "machine.c"))
        _compile(f"fuzz-{kind}", *_SANITIZED, *usual, str(_HOST / "fuzz.c"))
    source = ROOT / "loaders" / "machines" / "simavr" / "machine.c"
    _compile("simavr", str(source), "-lsimavr", "-lsimavrparts", "-lelf")
    flags = subprocess.run(
        ["pkg-config", "--cflags", "--libs", "glib-2.0"], check=True, capture_output=True, text=True
    )
    source = ROOT / "loaders" / "machines" / "gpsim" / "machine.cc"
    words = ["c++", "-O2", "-w", str(source), "-o", str(FOLDER / "gpsim"), "-lgpsim", *flags.stdout.split()]
    subprocess.run(words, check=True)


if __name__ == "__main__":
    sys.exit(build())
