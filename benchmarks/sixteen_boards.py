"""Sixteen simulated boards at real line speed (115200 baud), written at once: how much longer than one alone?

`python -m benchmarks.sixteen_boards [BOARDS [BYTES [rfc2217|pty]]]`

The boards are served by as many bench processes as the machine has cores, and more of its time than a real board
would take: what is measured is the tool and its stand-ins together, against the limit for the tool alone.
"""

from __future__ import annotations

import json
import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from greenstep.bench.trial import sample_for
from greenstep.core.image.intel_hex import write_intel_hex

COMMAND = str(Path(sys.executable).parent / "greenstep")
LIMIT = 1.5
BOARD = "brood-probe"


def serve(number: int, way: str, folder: Path) -> tuple[list[subprocess.Popen[str]], list[str]]:
    """(bench processes, ports)"""
    processes, ports = [], []
    share = -(-number // (os.cpu_count() or 1))
    for at in range(0, number, share):
        names = [BOARD] * min(share, number - at)
        words = [COMMAND, "bench", *names, "--json", *(["--pty", "--hands", "0.5"] if way == "pty" else [])]
        process = subprocess.Popen(words, stdout=subprocess.PIPE, text=True, cwd=folder)
        assert process.stdout is not None
        ports += [json.loads(process.stdout.readline())["port"] for _ in names]
        processes.append(process)
    return processes, ports


def batch(number: int, size: int, way: str, folder: Path) -> tuple[float, int, float]:
    """(seconds, boards that are green, seconds of the tool's and the bench's processors) for so many at once."""
    (folder / "probe.hex").write_text("".join(write_intel_hex(sample_for(BOARD, size))))
    processes, ports = serve(number, way, folder)
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    hookup = "by-hand" if way == "pty" else "dtr-reset-rts-boot"
    words = [COMMAND, "batch", "probe.hex", "--chip", "stm32f072", "--hookup", hookup, "--once", "--json"]
    try:
        began = time.monotonic()
        done = subprocess.run(
            [*words, *(word for port in ports for word in ("--port", port))],
            cwd=folder,
            env={**os.environ, "GREENSTEP_JOURNAL": str(folder / "journal.sqlite")},
            capture_output=True,
            text=True,
        )
        took = time.monotonic() - began
    finally:
        for process in processes:
            process.terminate()
        for process in processes:
            process.communicate()
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    busy = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    ended = json.loads(done.stdout.splitlines()[-1])
    return took, ended["green"], busy


def main() -> int:
    number = int(sys.argv[1]) if len(sys.argv) > 1 else 16
    size = int(sys.argv[2]) if len(sys.argv) > 2 else 60_000
    way = sys.argv[3] if len(sys.argv) > 3 else "rfc2217"
    with tempfile.TemporaryDirectory(prefix="greenstep-") as name:
        folder = Path(name)
        one, green_one, busy_one = batch(1, size, way, folder)
        all_, green, busy = batch(number, size, way, folder)
    ratio = all_ / one
    print(f"{size:,} bytes at 115200 baud over {way}, {os.cpu_count()} cores")
    print(f"1 board   {one:6.1f} s, {green_one} green, processors {busy_one:5.1f} s")
    print(
        f"{number} boards {all_:6.1f} s, {green} green, processors {busy:5.1f} s: {ratio:.2f} times one (limit {LIMIT})"
    )
    return 0 if green == number and ratio <= LIMIT else 1


if __name__ == "__main__":
    sys.exit(main())
