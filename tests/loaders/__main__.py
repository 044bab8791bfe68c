"""The loaders' machine code in emulators, and their sources: `python -m tests.loaders`, what `make loaders` runs."""

from __future__ import annotations

import subprocess
import sys
import unittest
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor

from tests.machines.built import ROOT, build


def names_in(tests: unittest.TestSuite) -> Iterator[str]:
    """The classes of tests, by their full names."""
    for test in tests:
        if isinstance(test, unittest.TestSuite):
            yield from names_in(test)
        else:
            yield f"{type(test).__module__}.{type(test).__qualname__}"


def run(name: str) -> int:
    """A class of tests, in a process of its own: an emulated chip takes a core for itself."""
    done = subprocess.run(
        [sys.executable, "-m", "unittest", "-b", name], cwd=ROOT, capture_output=True, text=True, check=False
    )
    last = done.stderr.strip().splitlines()[-1:] or [""]
    print(f"{name}: {last[0]}{'' if not done.returncode else chr(10) + done.stdout + done.stderr}", flush=True)
    return done.returncode


def main() -> int:
    build()
    loader = unittest.defaultTestLoader
    found = loader.discover("tests/loaders", top_level_dir=str(ROOT))
    if loader.errors:
        print("\n".join(loader.errors))
        return 1
    names = dict.fromkeys(names_in(found))
    with ThreadPoolExecutor(2) as pool:
        return 1 if any(list(pool.map(run, names))) else 0


if __name__ == "__main__":
    sys.exit(main())
