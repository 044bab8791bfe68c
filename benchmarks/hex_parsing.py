"""A 16 MiB Intel HEX file: time against `bytes.fromhex` over the same digits, memory against the image's size."""

from __future__ import annotations

import random
import sys
import tempfile
import time
import tracemalloc
from collections.abc import Callable
from pathlib import Path

from greenstep.core.image import Image, Piece
from greenstep.core.image.intel_hex import read_intel_hex, write_intel_hex

SIZE = 16 << 20
TIME_LIMIT, MEMORY_LIMIT = 8.0, 4.0


def fastest(work: Callable[[], object], times: int = 7) -> float:
    """The shortest of several runs, in seconds."""
    best = float("inf")
    for _ in range(times):
        start = time.perf_counter()
        work()
        best = min(best, time.perf_counter() - start)
    return best


def main() -> int:
    data = random.Random(1).randbytes(SIZE)
    image = Image("big.hex", (Piece(0x08000000, data),))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "big.hex"
        with path.open("w", newline="\r\n") as file:
            file.writelines(write_intel_hex(image))
        digits = path.read_bytes().translate(None, b":\r\n").decode()

        def parse() -> Image:
            with path.open("rb") as stream:
                return read_intel_hex(stream, "big.hex")

        assert parse().pieces == image.pieces
        bare = fastest(lambda: bytes.fromhex(digits))
        ours = fastest(parse)
        tracemalloc.start()
        parse()
        peak = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
    time_ratio, memory_ratio = ours / bare, peak / SIZE
    print(f"\n16 MiB of Intel HEX in {ours * 1000:.0f} ms; bytes.fromhex over its digits {bare * 1000:.0f} ms")
    print(
        f"time {time_ratio:.2f} times (at most {TIME_LIMIT:g}), memory {memory_ratio:.2f} times (at most {MEMORY_LIMIT:g})"
    )
    return 0 if time_ratio <= TIME_LIMIT and memory_ratio <= MEMORY_LIMIT else 1


if __name__ == "__main__":
    sys.exit(main())
