"""All tests: `python -m tests [MODULE …]`, two modules at a time.

Each module runs as `python -m unittest -b MODULE` would, in a process of its own. No test is run twice: what fails has
failed.
"""

from __future__ import annotations

import compileall
import re
import resource
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parents[1]
AT_ONCE = 2
_LONGEST = (
    "tests.core.test_compare",
    "tests.core.test_every_dialect",
    "tests.tool.test_connect",
    "tests.core.test_late_answers",
)
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
    """Every module with tests, the longest first."""
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


def main() -> int:
    began = time.monotonic()
    compileall.compile_dir(ROOT / "src", quiet=1)  # as an installed package is; hundreds of commands are started
    with ThreadPoolExecutor(AT_ONCE) as pool:
        results = list(pool.map(run, sys.argv[1:] or modules()))
    wrong = [result.module for result in results if result.status or not result.number]
    number = sum(result.number for result in results)
    used_s = resource.getrusage(resource.RUSAGE_CHILDREN).ru_utime
    print(f"\nRan {number} tests in {time.monotonic() - began:.3f}s, {used_s:.0f} s of user CPU\n")
    print(f"FAILED in {', '.join(wrong)}" if wrong else "OK")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
