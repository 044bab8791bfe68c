"""`greenstep --version` against a bare `python -c "import click"`, as whole processes, in turn."""

from __future__ import annotations

import statistics
import subprocess
import sys
import time
from pathlib import Path

LIMIT = 1.6
PAIRS = 21


def seconds(command: list[str]) -> float:
    start = time.perf_counter()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - start


def main() -> int:
    tool = [str(Path(sys.executable).parent / "greenstep"), "--version"]
    bare = [sys.executable, "-c", "import click"]
    seconds(tool), seconds(bare)
    pairs = [(seconds(tool), seconds(bare)) for _ in range(PAIRS)]
    ratio = statistics.median(ours / theirs for ours, theirs in pairs)
    ours, theirs = (statistics.median(times) * 1000 for times in zip(*pairs, strict=True))
    print(f"\ngreenstep --version {ours:.0f} ms, import click {theirs:.0f} ms: {ratio:.2f} times (at most {LIMIT})")
    return 0 if ratio <= LIMIT else 1


if __name__ == "__main__":
    sys.exit(main())
