"""Uploads with one to five faults each, seeded: lost, flipped, repeated and late characters, and bursts.

As in `fault_runs`, every chip is full of another program or holds nearly this one already. Green asks for the right
flash and nothing changed beside; whatever else happens must end in a finding. Shares of green are shown, and none is
asked for.

`python -m benchmarks.mixed_faults [RUNS [FIRST_SEED [DIALECT …]]]`, so many for each dialect
"""

from __future__ import annotations

import random
import sys

from greenstep.bench.trial import sample_for

from .beside import BOARDS
from .fault_runs import FaultRun, clean, judged, show_outcomes
from .seeded import asked_for, on_all_processors, show_wrong

_MOST = 5
_LONGEST_BURST = 12
_LATEST_MS = 1500
LONGEST_S = 600.0


def faults_of(source: random.Random, to_chip: int, to_host: int) -> tuple[str, ...]:
    """One to five faults on a line on which so many characters are sent each way."""
    faults: list[str] = []
    for _ in range(source.randint(1, _MOST)):
        way, total = source.choice((("to-chip", to_chip), ("to-host", to_host)))
        place = source.randrange(total)
        kind = source.choice(("drop", "flip", "repeat", "late", "burst"))
        if kind == "late":
            faults.append(f"late-once={source.randrange(to_host)}:{source.randint(20, _LATEST_MS)}")
        elif kind == "burst":
            reach = range(place, min(total, place + source.randint(2, _LONGEST_BURST)))
            faults += [f"flip-{way}={at}:{source.randrange(1, 256):02X}" for at in reach]
        else:
            mask = f":{source.randrange(1, 256):02X}" if kind == "flip" else ""
            faults.append(f"{kind}-{way}={place}{mask}")
    return tuple(faults)


def one_run(dialect: str, seed: int) -> FaultRun:
    """The run of a seed with a dialect, always the same."""
    source = random.Random(f"mixed {seed}")
    board = source.choice(BOARDS[dialect])
    image = sample_for(board, 2300, seed=5)
    nearly_there = bool(source.getrandbits(1))
    line = clean(dialect, board, image, nearly_there).line
    faults = faults_of(source, line.to_chip_count, line.to_host_count)
    return judged(seed, dialect, board, image, nearly_there, faults, LONGEST_S)


def main() -> int:
    runs, first, named = asked_for(500)
    dialects = named or list(BOARDS)
    results = on_all_processors(one_run, [(name, seed) for name in dialects for seed in range(first, first + runs)])
    show_outcomes(results, dialects)
    wrong = [result for result in results if result.wrong]
    return show_wrong(wrong, f"{len(results):,} runs, {len(wrong)} wrong")


if __name__ == "__main__":
    sys.exit(main())
