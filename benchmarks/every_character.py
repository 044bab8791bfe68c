"""A small upload with each of its characters to the chip damaged in turn: lost, and with one bit or the two
lowest flipped. Commands and addresses are hit here, which the seeded runs of larger images seldom do. Of long conversations
some characters in the middle, where the data is.

Every chip is full of another program, and what lies beside the image must stay as it was.

`python -m benchmarks.every_character [BYTES [FIRST_SEED [DIALECT …]]]`
"""

from __future__ import annotations

import sys
import traceback

from greenstep.bench.trial import sample_for

from .beside import BOARDS
from .fault_runs import FaultRun, clean, judge, upload
from .seeded import asked_for, on_all_processors, show_counts, show_wrong

DAMAGE = ("drop-to-chip={}", *(f"flip-to-chip={{}}:{mask:02X}" for mask in (1, 2, 8, 32, 3)))

_LONG = 10_000


def places(total: int) -> list[int]:
    """All of so many characters; of long conversations some in the middle, where the data is."""
    edge, some = (300, 500) if total < _LONG else (60, 30)
    step = 1 + total // some
    return [place for place in range(total) if place < edge or place >= total - edge or not place % step]


def one_run(dialect: str, board: str, size: int, seed: int, fault: str) -> FaultRun:
    """An upload of so many bytes with a fault."""
    image = sample_for(board, size, seed)
    try:
        trial = upload(dialect, board, image, False, (fault,))
    except Exception as error:  # noqa: BLE001  (a traceback is one of the results that are counted)
        told = "".join(traceback.format_exception(error)[-3:])
        return FaultRun(seed, dialect, board, fault, "WRONG: traceback", told)
    return FaultRun(seed, dialect, board, fault, *judge(trial, dialect, board, image, False))


def main() -> int:
    size, seed, named = asked_for(300)
    wanted = []
    for dialect in named or list(BOARDS):
        for board in BOARDS[dialect]:
            total = clean(dialect, board, sample_for(board, size, seed), False).line.to_chip_count
            rows = [(place, damage) for place in places(total) for damage in DAMAGE]
            wanted += [(dialect, board, size, seed, damage.format(place)) for place, damage in rows]
    results = on_all_processors(one_run, wanted)
    show_counts(((run.dialect, run.outcome) for run in results), 42)
    wrong = [run for run in results if run.wrong]
    return show_wrong(wrong, f"{len(results):,} runs, {len(wrong)} wrong")


if __name__ == "__main__":
    sys.exit(main())
