"""The loaders' machine code in emulators, and their sources: `python -m tests.loaders`, what `make loaders` runs."""

from __future__ import annotations

import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor

from tests.machines.built import ROOT, build


def run(module: str) -> int:
    done = subprocess.run(
        [sys.executable, "-m", "unittest", "-b", module], cwd=ROOT, capture_output=True, text=True, check=False
    )
    last = done.stderr.strip().splitlines()[-1:] or [""]
    print(f"{module}: {last[0]}{'' if not done.returncode else chr(10) + done.stdout + done.stderr}", flush=True)
    return done.returncode


def main() -> int:
    build()
    modules = [f"tests.loaders.{path.stem}" for path in sorted((ROOT / "tests" / "loaders").glob("test_*.py"))]
    with ThreadPoolExecutor(2) as pool:
        return 1 if any(list(pool.map(run, modules))) else 0


if __name__ == "__main__":
    sys.exit(main())
