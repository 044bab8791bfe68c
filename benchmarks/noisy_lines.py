"""Uploads over lines that damage characters at the board's own rate, about one in a thousand and more, all the way:
green with the right flash and nothing changed beside it, or a failure with a finding.

One damaged character is what most checks are made for. Here several fall into one upload, in what is asked, answered,
written, read back and written again. Most such uploads fail; none may end green by mistake.

`python -m benchmarks.noisy_lines [RUNS [FIRST_SEED [DIALECT …]]]`, so many for each dialect
"""

from __future__ import annotations

import random
import sys
from functools import cache

from greenstep.bench.trial import prepare, sample_for

from .beside import BOARDS
from .fault_runs import FaultRun, judged
from .seeded import asked_for, on_all_processors, show_counts, show_wrong

_TIMES = (1.05, 1.3, 2.0)
"""How much faster the board's rate is than what the line carries: one damaged character in 850, 420, 100."""
_LONGEST_S = 3000.0


@cache
def usual_baud(board: str) -> int:
    """The rate that the board is talked to at."""
    return prepare(board)[0].job.settings.baud


def one_run(dialect: str, seed: int) -> FaultRun:
    """The run of a seed with a dialect, always the same."""
    source = random.Random(seed)
    board = source.choice(BOARDS[dialect])
    nearly_there = bool(source.getrandbits(1))
    carried = int(usual_baud(board) / source.choice(_TIMES))
    image = sample_for(board, 2300, seed=5)
    return judged(seed, dialect, board, image, nearly_there, (f"noise-above={carried}",), _LONGEST_S)


def main() -> int:
    runs, first, named = asked_for(200)
    rows = [(name, seed) for name in named or list(BOARDS) for seed in range(first, first + runs)]
    results = on_all_processors(one_run, rows)
    show_counts(((run.dialect, run.outcome) for run in results), 42)
    wrong = [run for run in results if run.wrong]
    return show_wrong(wrong, f"{len(results):,} runs, {len(wrong)} wrong")


if __name__ == "__main__":
    sys.exit(main())
