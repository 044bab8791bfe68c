"""The rate that `--baud fastest` chooses, seeded: chips, adapters and wires limited at various rates.

Every chip whose loader can prove a rate takes part. Chosen must be the highest rate that all three carry, in 99 of a
hundred, and every upload must end green with the right flash, and with nothing changed beside it: every chip is full of
another program. In every fourth, the line becomes worse while it is being written; in every fourth, a rate is
remembered that it may carry no longer. And what a whole upload takes at the rate found, as a share of the time at the
safe one. Where nothing guards what a loader is told, a line that worsens may have something beside changed: then red, as
`erased-beside`, is right.

`python -m benchmarks.fastest_rate [RUNS [FIRST_SEED]]`
"""

from __future__ import annotations

import random
import sys
from collections import Counter

from greenstep.bench.trial import Trial, prepare, sample_for
from greenstep.core.dialects.abilities import ProvesRate
from greenstep.core.dialects.registry import find_dialect
from greenstep.core.engine.fastest_rate import BAUDS
from greenstep.core.events import StepAdvanced
from greenstep.core.frozen import frozen

from .beside import BOARDS as BESIDE
from .fault_runs import bench
from .seeded import asked_for, on_all_processors

WANTED_SHARE = 0.99
WHOLE, SEARCHED = 0.30, 0.35
SHARES_OF = ("stm32g071", "stm32f407")
"""Those of 64 KiB whose flash itself takes less than a tenth of the upload at the safe rate."""
FIRST = ("stm32f072", "stm32g071", "stm32c031", "apiary-gateway", "rain-gauge", "feeder-pump", "entrance-counter")
BOARDS = (
    *FIRST,
    *(
        board
        for name, boards in BESIDE.items()
        if issubclass(find_dialect(name), ProvesRate)
        for board in boards
        if board not in FIRST
    ),
)
_LIMITS = tuple(baud for baud in sorted(BAUDS) if baud >= 115200)
_SIZE, _SMALL = 12_000, {"efm8bb1": 6_000}
_WORSE_AFTER, _WORSE = 0.3, 4


class Found:
    """Where a rate is remembered while one board is tried."""

    def __init__(self) -> None:
        self.baud: int | None = None

    def known(self) -> int | None:
        return self.baud

    def keep(self, baud: int) -> None:
        self.baud = baud


@frozen
class RateRun:
    """`wanted` is the highest rate that everything carries, `made` the one that the line had in the end; `remembered`
    one that it was known to carry on another day, or 0."""

    seed: int
    board: str
    faults: str
    wanted: int
    made: int
    green: bool
    worsened: bool
    remembered: int
    told_beside: bool

    @property
    def right(self) -> bool:
        if self.worsened and self.told_beside:
            return True
        if self.worsened or self.remembered:
            return self.green and self.made <= self.wanted
        return self.green and self.made == self.wanted


def one_run(seed: int, boards: tuple[str, ...] = BOARDS) -> RateRun:
    source = random.Random(seed)
    board = source.choice(boards)
    limits = {
        "chip-limit": source.choice(_LIMITS),
        source.choice(("adapter-limit", "adapter-clamps")): source.choice(_LIMITS),
        "noise-above": source.choice(_LIMITS),
    }
    for name in source.sample(sorted(limits), source.randrange(2)):
        del limits[name]
    faults = tuple(f"{name}={limit}" for name, limit in limits.items())
    worsened = not seed % 4
    image = sample_for(board, _SMALL.get(board, _SIZE))
    found = Found()
    remembered = source.choice(BAUDS) if seed % 4 == 1 else 0
    found.baud = remembered or None
    runner, trial = prepare(
        board, {"flash": image}, faults, turnaround_s=source.choice((0.001, 0.016)), seed=seed, rates=found
    )
    safe = runner.job.settings.baud
    line = min(limit for name, limit in (("", BAUDS[0]), *limits.items()) if name != "chip-limit")
    highest = max(baud for baud in (safe, *BAUDS) if baud == safe or (baud <= line and trial.line.chip.follows(baud)))
    there = bench(runner.job.dialect.name, board)
    trial.line.chip.flash[:] = there.flash
    for event in runner.run():
        trial.events.append(event)
        writes = isinstance(event, StepAdvanced) and event.step == "write"
        if worsened and writes and event.done > event.total * _WORSE_AFTER:
            trial.line.faults.noise_above = min(highest, max(safe, (found.baud or 0) // _WORSE))
    made = trial.line.faults.made_of(found.baud or 0)
    green = trial.end.exit_code == 0 and trial.holds(image)
    green = green and not there.beside(trial, there.stand.held(image).pieces, there.flash)
    told = bool(trial.findings) and trial.findings[0].key == "erased-beside"
    return RateRun(seed, board, " ".join(faults), highest, made, green, worsened, remembered, told)


def seconds(board: str, found: Found | None) -> float:
    """A whole upload of 64 KiB to a chip that carries 921600 at the most."""
    trial = _upload(board, found)
    assert trial.end.exit_code == 0 and trial.link is not None
    return trial.link.now()


def _upload(board: str, found: Found | None) -> Trial:
    image = sample_for(board, 65024)
    runner, trial = prepare(board, {"flash": image}, ("chip-limit=921600",), rates=found)
    trial.events.extend(runner.run())
    return trial


def main() -> int:
    runs, first, _ = asked_for(1000)
    results = on_all_processors(one_run, [(seed,) for seed in range(first, first + runs)])
    still = [run for run in results if not run.worsened and not run.remembered]
    share = sum(run.right for run in still) / max(1, len(still))
    red = [run for run in results if not run.green]
    wrong = [run for run in red if not run.right]
    print(f"{share:.1%} of {len(still):,} at the highest rate that adapter, wires and chip carry")
    worse, known = sum(run.worsened for run in results), sum(bool(run.remembered) for run in results)
    print(
        f"{len(red)} of {len(results):,} not green, {len(red) - len(wrong)} of them told that something beside changed; "
        f"{worse} with a line that worsens, {known} with a rate of another day"
    )
    counts = Counter(run.made for run in still)
    print("chosen: " + ", ".join(f"{baud} {number} times" for baud, number in sorted(counts.items())))
    for run in [run for run in results if not run.right][:12]:
        print(f"  seed {run.seed}: {run.board} {run.faults}: {run.made} instead of {run.wanted}, green {run.green}")
    good = share >= WANTED_SHARE and not wrong and all(run.right for run in results if run not in still)
    print("\n64 KiB, both ends carry 921600    at 115200    finding the rate    knowing it")
    for board in ("stm32g071", "stm32f407", "stm32f103", "stm32f072"):
        found = Found()
        safe, searched, known = seconds(board, None), seconds(board, found), seconds(board, found)
        print(
            f"{board:<32} {safe:>9.2f} s   {searched:>8.2f} s {searched / safe:>5.1%}   {known:>6.2f} s {known / safe:>5.1%}"
        )
        good = good and (board not in SHARES_OF or (searched / safe <= SEARCHED and known / safe <= WHOLE))
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
