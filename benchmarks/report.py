"""Write docs/measurements.md: `python -m benchmarks.report`. Runs every benchmark, the fault runs included."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

PARTS = (
    ("Line", "line_efficiency", "`took` is the whole upload on the bench's virtual clock, from opening the port."),
    ("Reading files", "hex_parsing", ""),
    ("Start-up", "startup", ""),
    ("Fault runs", "fault_runs", "One lost or damaged character each, either way, at any place; seeds 0 to 1999."),
)


def main() -> int:
    lines = [
        "# Measurements",
        "",
        "Made by `python -m benchmarks.report`; `make bench` and `make faults` print them.",
    ]
    failed = False
    for title, module, words in PARTS:
        done = subprocess.run([sys.executable, "-m", f"benchmarks.{module}"], capture_output=True, text=True)
        failed = failed or done.returncode != 0
        lines += ["", f"## {title}", "", *([words, ""] if words else []), "```", done.stdout.strip(), "```"]
    (Path(__file__).parents[1] / "docs" / "measurements.md").write_text("\n".join(lines) + "\n")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
