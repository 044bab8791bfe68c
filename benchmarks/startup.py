"""What it costs to start a command: user CPU of whole processes against a bare `python -c "import click"`, in turn.

The package is compiled first, as `pip install` does. Run in examples/apiary, whose boards the commands name.

`python -m benchmarks.startup [RUNS]`
"""

from __future__ import annotations

import compileall
import os
import resource
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

import greenstep

ROOT = Path(__file__).parents[1]
LIMIT, VERSION_LIMIT = 2.0, 1.6
COMMANDS = (
    "ports",
    "boards",
    "chips 328",
    "plan hive-scale",
    "image show hive-scale",
    "journal",
    "wiring hive-scale",
)


def user_seconds(command: list[str], environment: dict[str, str]) -> float:
    before = resource.getrusage(resource.RUSAGE_CHILDREN).ru_utime
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL, cwd=ROOT / "examples/apiary", env=environment)
    return resource.getrusage(resource.RUSAGE_CHILDREN).ru_utime - before


def main() -> int:
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 20
    compileall.compile_dir(Path(greenstep.__file__).parent, quiet=1)
    tool = str(Path(sys.executable).parent / "greenstep")
    commands = {words: [tool, *words.split()] for words in ("--version", *COMMANDS)}
    with tempfile.TemporaryDirectory() as folder:
        environment = {**os.environ, "GREENSTEP_JOURNAL": f"{folder}/journal.sqlite"}
        bare: list[float] = []
        ours: dict[str, list[float]] = {words: [] for words in commands}
        for turn in range(runs + 1):  # the first of each fills the disk's cache, and does not count
            for words, command in commands.items():
                base = user_seconds([sys.executable, "-c", "import click"], environment)
                taken = user_seconds(command, environment)
                if turn:
                    bare.append(base)
                    ours[words].append(taken)
    base = statistics.mean(bare)
    print(f"\nimport click: {base * 1000:.0f} ms of user CPU, mean of {len(bare)}")
    good = True
    for words, times in ours.items():
        ratio, limit = statistics.mean(times) / base, VERSION_LIMIT if words == "--version" else LIMIT
        good = good and ratio <= limit
        print(f"greenstep {words:<22} {statistics.mean(times) * 1000:4.0f} ms: {ratio:.2f} times (at most {limit})")
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
