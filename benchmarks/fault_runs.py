"""Uploads with one damaged character each, seeded: green with the right flash, or a failure with a finding.

Every chip is full of another program, and what lies beside the image must stay as it was. Every other one holds the
image already but for a few bytes, so that only some of it is written. At least 95 of a hundred are to end green.

`python -m benchmarks.fault_runs [RUNS [FIRST_SEED [DIALECT …]]]`, so many for each dialect
"""

from __future__ import annotations

import random
import sys
import traceback
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache

from greenstep.bench.trial import Trial, prepare, sample_for
from greenstep.core.dialects.registry import find_dialect
from greenstep.core.engine.verify import TOO_WEAK
from greenstep.core.events import StepEnded
from greenstep.core.image import Image

from .beside import BOARDS, Bench
from .seeded import asked_for, on_all_processors, show_counts, show_wrong

LONGEST_CLIMB_S = 300.0
WANTED_SHARE = 0.95


@dataclass(frozen=True)
class FaultRun:
    """One run: what was damaged, and how it went."""

    seed: int
    dialect: str
    board: str
    fault: str
    outcome: str
    detail: str = ""
    nearly_there: bool = False

    @property
    def wrong(self) -> bool:
        return self.outcome.startswith("WRONG")

    @property
    def well(self) -> bool:
        """Whether it ended without a failure, and claimed no more than was so."""
        return self.outcome.startswith(("green", "not proven"))


_CLEAN: dict[tuple[str, bool], Trial] = {}
_CHANGED = (100, 1400, 1500)  # bytes of the image, from its start


@cache
def bench(dialect: str, board: str) -> Bench:
    """The board, full of another program."""
    return Bench(dialect, board)


def upload(
    dialect: str, board: str, image: Image, nearly_there: bool, faults: tuple[str, ...] = (), seed: int = 0
) -> Trial:
    """An upload to a board with another program, or with all but a few bytes of this one."""
    runner, trial = prepare(board, {"flash": image}, faults=faults, seed=seed)
    trial.line.chip.flash[:] = before(dialect, board, image, nearly_there)
    trial.events.extend(runner.run())
    return trial


def before(dialect: str, board: str, image: Image, nearly_there: bool) -> bytes:
    """What the chip holds before an upload."""
    if not nearly_there or find_dialect(dialect).spec.shows_sums_only:
        return bench(dialect, board).flash
    line = clean(dialect, board, image, False).line
    content, base = bytearray(line.chip.flash), line.chip.base
    for offset in _CHANGED:
        content[image.lowest - base + offset] ^= 0x21
    return bytes(content)


def clean(dialect: str, board: str, image: Image, nearly_there: bool) -> Trial:
    """The same without a fault."""
    if (board, nearly_there) not in _CLEAN:
        _CLEAN[board, nearly_there] = upload(dialect, board, image, nearly_there)
    return _CLEAN[board, nearly_there]


def one_run(dialect: str, seed: int) -> FaultRun:
    """The run of a seed with a dialect, always the same."""
    source = random.Random(seed)
    board = source.choice(BOARDS[dialect])
    image = sample_for(board, 2300, seed=5)
    nearly_there = bool(source.getrandbits(1))
    line = clean(dialect, board, image, nearly_there).line
    direction = source.choice(("to-chip", "to-host"))
    total = line.to_chip_count if direction == "to-chip" else line.to_host_count
    kind = source.choice(("drop", "flip"))
    place = source.randrange(total)
    fault = f"{kind}-{direction}={place}" + (f":{source.randrange(1, 256):02X}" if kind == "flip" else "")
    return judged(seed, dialect, board, image, nearly_there, (fault,))


def judged(
    seed: int,
    dialect: str,
    board: str,
    image: Image,
    nearly_there: bool,
    faults: tuple[str, ...],
    longest_s: float = LONGEST_CLIMB_S,
) -> FaultRun:
    """An upload with these faults, and how it went."""
    shown = " ".join(faults)
    try:
        trial = upload(dialect, board, image, nearly_there, faults, seed)
    except Exception as error:  # noqa: BLE001  (a traceback is one of the results that are counted)
        lines = "".join(traceback.format_exception(error)[-3:])
        return FaultRun(seed, dialect, board, shown, "WRONG: traceback", lines, nearly_there)
    ended = judge(trial, dialect, board, image, nearly_there, longest_s)
    return FaultRun(seed, dialect, board, shown, *ended, nearly_there)


def judge(
    trial: Trial, dialect: str, board: str, image: Image, nearly_there: bool, longest_s: float = LONGEST_CLIMB_S
) -> tuple[str, str]:
    """How a run ended, and what of."""
    end = trial.end
    assert trial.link is not None
    if trial.link.now() > longest_s:
        return "WRONG: hang", f"{trial.link.now():.0f} s"
    if end.exit_code == 0:
        if any(isinstance(event, StepEnded) and event.evidence == TOO_WEAK for event in trial.events):
            return "not proven, and told so", ""
        if not trial.holds(image):
            return "WRONG: green, flash wrong" if end.green else "not proven, flash wrong, and told so", ""
        there = bench(dialect, board)
        beside = there.beside(trial, there.stand.held(image).pieces, before(dialect, board, image, nearly_there))
        well = "green" if end.green else "not proven"
        return (f"WRONG: {well}, {beside} bytes beside it changed", "") if beside else (f"{well}, flash right", "")
    if not trial.findings:
        return "WRONG: failure without a finding", f"exit {end.exit_code}"
    return f"failed with a finding, exit {end.exit_code}", trial.findings[0].key


def show_outcomes(results: Sequence[FaultRun], dialects: Sequence[str]) -> list[float]:
    """Print how the runs ended; returns the share of each dialect that ended well."""
    show_counts(((run.dialect, run.outcome) for run in results), 42)
    keys = Counter(run.detail for run in results if run.outcome.startswith("failed"))
    print("findings:", ", ".join(f"{key} {number}" for key, number in keys.most_common()))
    shares = []
    for dialect in dialects:
        own = [run for run in results if run.dialect == dialect]
        shares.append(sum(run.well for run in own) / max(1, len(own)))
        print(f"{dialect:<14} {shares[-1]:.1%} of {len(own):,} green, or not proven and told so")
    return shares


def main() -> int:
    runs, first, named = asked_for(500)
    dialects = named or list(BOARDS)
    results = on_all_processors(one_run, [(name, seed) for name in dialects for seed in range(first, first + runs)])
    good = min(show_outcomes(results, dialects)) >= WANTED_SHARE
    wrong = [result for result in results if result.wrong]
    if len(dialects) == 1:
        for run in [run for run in results if run.outcome.startswith("failed")][:12]:
            print(run)
    status = show_wrong(wrong, f"{len(results):,} runs, {len(wrong)} wrong")
    return status if good else 1


if __name__ == "__main__":
    sys.exit(main())
