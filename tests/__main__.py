"""All tests: `python -m tests [--order N] [--whole] [MODULE …]`, two modules at a time and one that mostly waits.

They run as `python -m unittest -b MODULE …` would; the shorter ones share a process, and all of them the process in which
the command is loaded. The modules are shuffled by `--order`, so that none rests on what another has left behind.
`--whole` makes every sweep over boards, places and seeds that is a sample otherwise. No test is run twice: what fails
has failed.
"""

from __future__ import annotations

import argparse
import compileall
import os
import random
import re
import resource
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from tests import loaded_command
from tests.sample import VARIABLE

ROOT = Path(__file__).parents[1]
AT_ONCE = 2
_WAITING = (
    "tests.tool.test_batch",
    "tests.tool.test_commands",
    "tests.tool.test_trouble",
    "tests.tool.test_watch",
    "tests.tool.test_listen",
    "tests.tool.test_hostile_peers",
    "tests.tool.test_turns",
)
"""Run beside the others, one after the other: they wait for what happens far more than they compute."""
_TOGETHER = 8
"""Modules of tests/core and tests/dialects a process: most of them take less time than what they import."""


@dataclass(frozen=True)
class Result:
    """How some modules ended; `text` is what unittest printed, `used_s` their user CPU and that of processes that they
    started themselves."""

    modules: tuple[str, ...]
    status: int
    text: str
    used_s: float

    @property
    def number(self) -> int:
        found = re.search(r"^Ran (\d+) tests?", self.text, re.MULTILINE)
        return int(found[1]) if found else 0


def found_in(folder: str) -> list[str]:
    """The modules with tests in a folder that are none of those that wait."""
    paths = sorted((ROOT / "tests" / folder).glob("test_*.py"))
    modules = [".".join(path.relative_to(ROOT).with_suffix("").parts) for path in paths]
    return [module for module in modules if module not in _WAITING]


def processes(order: int) -> list[tuple[str, ...]]:
    """Every module with tests, by the process it runs in."""
    core, tool = found_in("core") + found_in("dialects"), found_in("tool")
    dice = random.Random(order)
    dice.shuffle(core)
    dice.shuffle(tool)
    return [tuple(core[at : at + _TOGETHER]) for at in range(0, len(core), _TOGETHER)] + [
        (module,) for module in tool
    ]


def run(modules: tuple[str, ...]) -> Result:
    """To their end; failures are shown at once."""
    words = [sys.executable, "-m", "unittest", "-b", *modules]
    with tempfile.TemporaryFile("w+") as said:
        process = subprocess.Popen(words, cwd=ROOT, stdout=said, stderr=subprocess.STDOUT)
        _, status, used = os.wait4(process.pid, 0)
        process.returncode = os.waitstatus_to_exitcode(status)
        said.seek(0)
        result = Result(modules, process.returncode, said.read(), used.ru_utime)
    last = result.text.strip().splitlines()[-1:] or [""]
    print(f"{', '.join(modules)}: {result.number} tests, {last[0]}, {result.used_s:.1f} s of user CPU", flush=True)
    if result.status or not result.number:
        print(result.text, flush=True)
    return result


def main() -> int:
    parser = argparse.ArgumentParser(prog="python -m tests")
    parser.add_argument("--order", type=int, default=1, help="number that the modules are shuffled by")
    parser.add_argument("--whole", action="store_true", help="every sweep from end to end")
    parser.add_argument("modules", nargs="*")
    asked = parser.parse_args()
    began = time.monotonic()
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # hundreds of commands are started: each would compile it all
    if asked.whole:
        os.environ[VARIABLE] = "yes"
    compileall.compile_dir(ROOT / "src", quiet=1)  # as an installed package is
    with loaded_command.ready(), ThreadPoolExecutor(AT_ONCE) as pool, ThreadPoolExecutor(1) as beside:
        waiting = beside.map(run, [] if asked.modules else [(module,) for module in _WAITING])
        results = [*pool.map(run, [(module,) for module in asked.modules] or processes(asked.order)), *waiting]
    wrong = [", ".join(result.modules) for result in results if result.status or not result.number]
    number = sum(result.number for result in results)
    used_s = resource.getrusage(resource.RUSAGE_CHILDREN).ru_utime
    print(f"\nRan {number} tests in {time.monotonic() - began:.3f}s, {used_s:.0f} s of user CPU\n")
    print(f"FAILED in {', '.join(wrong)}" if wrong else "OK")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
