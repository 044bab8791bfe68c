"""`image show` of an Intel HEX file of single bytes, none beside another, against one piece in a file of the same size:
time and memory must grow with the file, and not with the square of its pieces.

`python -m benchmarks.scattered_image`
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path

PIECES = (65_536, 524_288)
_MOST_TIMES, _RUNS = 5.0, 7


def record(kind: int, address: int, data: bytes) -> str:
    body = bytes((len(data), address >> 8 & 0xFF, address & 0xFF, kind)) + data
    return f":{(body + bytes((-sum(body) & 0xFF,))).hex().upper()}\n"


def hex_of(places: range, size: int) -> str:
    """Records of `size` bytes at these addresses."""
    lines, upper = [], -1
    for address in places:
        if address >> 16 != upper:
            upper = address >> 16
            lines.append(record(4, 0, upper.to_bytes(2, "big")))
        lines.append(record(0, address, bytes((address + n) * 7 & 0xFF for n in range(size))))
    return "".join((*lines, record(1, 0, b"")))


def measured(path: Path) -> tuple[float, float]:
    """The least CPU time (s) of a few runs, and the most memory (MiB)."""
    tool = str(Path(sys.executable).parent / "greenstep")
    times, memory = [], 0.0
    for _ in range(_RUNS):
        process = subprocess.Popen([tool, "image", "show", str(path)], stdout=subprocess.DEVNULL)
        _, _, used = os.wait4(process.pid, 0)
        times.append(used.ru_utime + used.ru_stime)
        memory = max(memory, used.ru_maxrss / 1024)
    return min(times), memory


def main() -> int:
    worst = 0.0
    with tempfile.TemporaryDirectory() as name:
        for number in PIECES:
            scattered, whole = Path(name) / "scattered.hex", Path(name) / "whole.hex"
            scattered.write_text(hex_of(range(0, 2 * number, 2), 1))
            whole.write_text(hex_of(range(0, scattered.stat().st_size // 44 * 16, 16), 16))
            (took_s, held), (least_s, least) = measured(scattered), measured(whole)
            worst = max(worst, took_s / least_s)
            print(
                f"{number:>8,} pieces {took_s:.2f} s, {held:.0f} MiB; one piece {least_s:.2f} s, {least:.0f} MiB: "
                f"{took_s / least_s:.1f} times"
            )
    print(f"at most {worst:.1f} times, {_MOST_TIMES:g} are allowed")
    return 0 if worst <= _MOST_TIMES else 1


if __name__ == "__main__":
    sys.exit(main())
