"""All tests: `python -m tests [MODULE …]`, two modules at a time, for most of them wait for a simulated line.

Each module runs as `python -m unittest -b MODULE` would, in a process of its own. What drives boards in real time
can fail where the machine stands still for a second: such a test is judged again, alone, at the end, and only what
fails then too has failed. Both are printed.
"""

from __future__ import annotations

import re
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parents[1]
AT_ONCE = 2
MOST_AGAIN = 6
_LONGEST = ("tests.tool.test_connect", "tests.tool.test_families", "tests.tool.test_upload", "tests.tool.test_trouble")
"""Begun first, so that none of them is left alone at the end."""


@dataclass(frozen=True)
class Result:
    """How a module ended; `text` is what unittest printed."""

    module: str
    status: int
    text: str

    @property
    def number(self) -> int:
        found = re.search(r"^Ran (\d+) tests?", self.text, re.MULTILINE)
        return int(found[1]) if found else 0


def modules() -> list[str]:
    """Every module with tests, the longest first, those that wait before those that compute."""
    found = [
        ".".join(path.relative_to(ROOT).with_suffix("").parts)
        for folder in ("tool", "core")
        for path in sorted((ROOT / "tests" / folder).glob("test_*.py"))
    ]
    return sorted(found, key=lambda module: _LONGEST.index(module) if module in _LONGEST else len(_LONGEST))


def run(module: str) -> Result:
    """One module, to its end; its failures are shown at once."""
    words = [sys.executable, "-m", "unittest", "-b", module]
    done = subprocess.run(words, cwd=ROOT, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    result = Result(module, done.returncode, done.stdout)
    last = result.text.strip().splitlines()[-1:] or [""]
    print(f"{module}: {result.number} tests, {last[0]}", flush=True)
    if result.status or not result.number:
        print(result.text, flush=True)
    return result


def failed_in_real_time(results: list[Result]) -> list[str] | None:
    """The tests that failed by name; None where anything failed that does not wait for a board."""
    names: list[str] = []
    for result in results:
        if not result.status and result.number:
            continue
        found = re.findall(r"^(?:FAIL|ERROR): \w+ \((tests\.[\w.]+)\)", result.text, re.MULTILINE)
        if not found or not result.module.startswith("tests.tool."):
            return None
        names += found
    return list(dict.fromkeys(names))


def main() -> int:
    began = time.monotonic()
    with ThreadPoolExecutor(AT_ONCE) as pool:
        results = list(pool.map(run, sys.argv[1:] or modules()))
    wrong = [result.module for result in results if result.status or not result.number]
    again = failed_in_real_time(results)
    if again and len(again) <= MOST_AGAIN:
        print(f"\nAgain, alone: {', '.join(again)}")
        wrong = [name for name in again if run(name).status]
    number = sum(result.number for result in results)
    print(f"\nRan {number} tests in {time.monotonic() - began:.3f}s\n")
    print(f"FAILED in {', '.join(wrong)}" if wrong else "OK")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
