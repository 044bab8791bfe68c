"""Uploads to the loaders' real machine code over damaged lines: `python -m benchmarks.loader_faults [RUNS]`

Characters are lost, flipped, repeated or late, one or several of them, both ways; now and then the supply fails at a change
of the flash. What is green must be in the flash, and nothing but the image and its seal may have changed. After every
other end the next upload must be green: nothing is bricked. `make loaders` builds the emulators.
"""

from __future__ import annotations

import random
import sys
from collections import Counter
from concurrent.futures import ProcessPoolExecutor

from greenstep.bench.trial import Trial, prepare, sample_for
from greenstep.core.image import Image
from tests.machines.boards import join_the_bench

RUNS = 2000
FAMILIES = {
    "AVR": ("atmega328p", "atmega1284p"),
    "PIC18": ("pic18f46k22",),
    "Cortex-M": ("portable-2",),
    "writes that erase": ("portable-1",),
}
_AT_ONCE, _CHARACTERS, _LAST = 50, (1600, 260), 1100


def upload(board: str, image: Image, faults: tuple[str, ...], held: bytes | None, cut: int = 0) -> Trial:
    runner, trial = prepare(board, {"flash": image}, faults)
    if held is not None:
        trial.line.chip.flash[:] = held
    trial.line.chip.machine.cut_in(cut)
    trial.events.extend(runner.run())
    trial.line.chip.machine.cut_in(0)
    return trial


def beside(trial: Trial, before: bytes, image: Image) -> int:
    """How many bytes changed that are in none of the image's erase units, and no seal's."""
    now, aside = bytes(trial.line.chip.flash), bytearray(before)
    layout = trial.line.chip.layout
    for piece in image.pieces:
        low, high = piece.address // 1024 * 1024, -(-piece.end // 1024) * 1024
        aside[low:high] = now[low:high]
    unit = 1024 if layout.begin else 256
    aside[layout.seal : layout.seal + unit] = now[layout.seal : layout.seal + unit]
    return sum(a != b for a, b in zip(now, aside, strict=True))


def one(family: str, seed: int) -> str:
    join_the_bench()
    source = random.Random(seed)
    board = f"machine-{source.choice(FAMILIES[family])}"
    image = sample_for(board, _LAST, seed=5)
    faults = []
    for _ in range(source.choice((1, 1, 1, 2, 5, 20))):
        ways = ("drop", "flip", "flip", "repeat", "late")
        way, out = source.choice(ways), bool(source.getrandbits(1))
        place = source.randrange(_CHARACTERS[0 if out else 1])
        if way == "late":
            faults.append(f"late-once={source.randrange(_CHARACTERS[1])}:{source.randrange(20, 1500)}")
        else:
            mask = f":{source.randrange(1, 256):02X}" if way == "flip" else ""
            faults.append(f"{way}-to-{'chip' if out else 'host'}={place}{mask}")
    cut = source.randrange(1, 24) if source.random() < 0.1 else 0
    clean = prepare(board, {"flash": image})[1]
    before = bytes(clean.line.chip.flash)
    trial = upload(board, image, tuple(faults), before, cut)
    told = f"seed {seed} {board} {' '.join(faults)} cut {cut}"
    if beside(trial, before, image):
        return f"WRONG: changed beside it: {told}"
    if trial.end.green:
        return "green" if trial.holds(image) else f"WRONG: green, and not there: {told}"
    again = upload(board, image, (), bytes(trial.line.chip.flash))
    if not again.end.green or not again.holds(image):
        return f"WRONG: bricked: {told}: {again.end.summary}"
    return (
        "cut, and green the next time" if cut and trial.line.chip.seen.cut else "not green, and green the next time"
    )


def several(work: tuple[str, int, int]) -> Counter[str]:
    family, first, number = work
    return Counter(one(family, seed) for seed in range(first, first + number))


def main() -> int:
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else RUNS
    wrong = 0
    with ProcessPoolExecutor(2) as pool:
        for family in FAMILIES:
            work = [(family, first, min(_AT_ONCE, runs - first)) for first in range(0, runs, _AT_ONCE)]
            total: Counter[str] = sum(pool.map(several, work), Counter())
            wrong += sum(number for ended, number in total.items() if ended.startswith("WRONG"))
            shown = "; ".join(f"{number:,} {ended}" for ended, number in total.most_common())
            print(f"{family:<18} {runs:,} runs: {shown}", flush=True)
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
