"""Uploads whose answers come late, seeded: alone, and with a lost, flipped or repeated character besides.

An answer is late by up to three times the dialect's own time-out. Nothing may end green with wrong flash; where none
is later than twice the time-out, at least 98 of a hundred are to end green with the right flash.

`python -m benchmarks.late_answers [RUNS [FIRST_SEED [DIALECT …]]]`, so many for each dialect
"""

from __future__ import annotations

import random
import sys

from greenstep.bench.trial import sample_for
from greenstep.core.dialects.registry import find_dialect

from .beside import BOARDS
from .fault_runs import FaultRun, clean, judged
from .seeded import asked_for, on_all_processors, show_counts, show_wrong

WANTED_SHARE = 0.98
LONGEST_S = 10_800.0
"""An ESP8266 is read by four thousand questions, each of which may be answered one and a half seconds late, and some of it
once more where a character is hurt besides."""
_TWICE, _THRICE = 2.0, 3.0


def faults_of(dialect: str, source: random.Random, board: str, nearly_there: bool) -> tuple[tuple[str, ...], float]:
    """What is wrong with a run, and how many of the dialect's time-outs the latest answer is late."""
    image = sample_for(board, 2300, seed=5)
    line = clean(dialect, board, image, nearly_there).line
    most = source.choice((_TWICE, _TWICE, _THRICE))
    late_ms = 1000 * find_dialect(dialect).answer_s * source.uniform(0.05, most)
    kind = source.choice(("late", "late-once", "late-once", "late-some", "late-some"))
    faults = [
        f"late-once={source.randrange(line.to_host_count)}:{late_ms:.0f}"
        if kind == "late-once"
        else f"{kind}={late_ms:.0f}"
    ]
    if source.random() < 0.4:
        way = source.choice(("to-chip", "to-host"))
        place = source.randrange(line.to_chip_count if way == "to-chip" else line.to_host_count)
        hurt = source.choice(("drop", "flip", "repeat"))
        faults.append(f"{hurt}-{way}={place}" + (f":{source.randrange(1, 256):02X}" if hurt == "flip" else ""))
    return tuple(faults), most


def one_run(dialect: str, seed: int) -> tuple[FaultRun, bool]:
    """The run of a seed with a dialect, always the same; and whether it counts among those that are to be green."""
    source = random.Random(seed)
    board = source.choice(BOARDS[dialect])
    nearly_there = bool(source.getrandbits(1))
    faults, most = faults_of(dialect, source, board, nearly_there)
    image = sample_for(board, 2300, seed=5)
    return judged(seed, dialect, board, image, nearly_there, faults, LONGEST_S), most == _TWICE


def main() -> int:
    runs, first, named = asked_for(2000)
    dialects = named or list(BOARDS)
    results = on_all_processors(one_run, [(name, seed) for name in dialects for seed in range(first, first + runs)])
    show_counts(((run.dialect, run.outcome) for run, _ in results), 42)
    good = True
    for dialect in dialects:
        counted = [run for run, counts in results if counts and run.dialect == dialect]
        share = sum(run.well for run in counted) / max(1, len(counted))
        good = good and share >= WANTED_SHARE
        print(
            f"{dialect:<10} {share:.1%} of {len(counted):,} green (or told not to be proven) where none is later than twice the time-out"
        )
    wrong = [run for run, _ in results if run.wrong]
    if len(dialects) == 1:
        for run in [run for run, counts in results if counts and run.outcome.startswith("failed")][:12]:
            print(run)
    status = show_wrong(wrong, f"{len(results):,} runs, {len(wrong)} wrong")
    return status if good else 1


if __name__ == "__main__":
    sys.exit(main())
