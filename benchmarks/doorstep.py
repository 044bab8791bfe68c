"""How much of the line an upload to a Doorstep loader uses, and what one changed page costs: `python -m
benchmarks.doorstep`

The loaders are real machine code in emulators: AVR in simavr, the others in unicorn (`make loaders` builds what that
takes). Limits: 96 % of the line's bits carry the image's bytes in a write of 32 KiB at 115200, with adapters that take 1
and 16 ms; one changed page in a full ATmega328P takes at most 6 % of the whole upload, compared, written and verified.
"""

from __future__ import annotations

import random
import sys

from greenstep.bench.boards import BOARDS
from greenstep.bench.trial import Trial, prepare
from greenstep.core.image import Image, Piece
from greenstep.core.image.edit import with_bytes
from tests.machines.boards import join_the_bench

BAUD, SIZE = 115200, 32 << 10
SHARE, ONE_PAGE = 0.96, 0.06
HIDES = ("atmega1284p", "atmega2560", "samd21g18")
"""Whose flash works while the line does."""
OTHERS = ("nrf51822", "nrf52832")


def full(board: str, size: int) -> Image:
    image = BOARDS[board].program("queen lamp 1.5 ready", 4000, 3)
    first = image.pieces[0]
    return Image(image.name, (Piece(first.address, first.data + random.Random(7).randbytes(size - 4000)),))


def upload(board: str, image: Image, turnaround_s: float, held: Trial | None = None, compare: bool = True) -> Trial:
    runner, trial = prepare(board, {"flash": image}, turnaround_s=turnaround_s, compare=compare, start=False)
    if held is not None:
        trial.line.chip.flash[:] = held.line.chip.flash
    trial.events.extend(runner.run())
    assert trial.end.exit_code == 0 and trial.holds(image), trial.end
    assert not trial.line.chip.violations, trial.line.chip.violations[:3]
    return trial


def work_s(trial: Trial) -> float:
    steps = (trial.step_or_none(name) for name in ("compare", "erase", "write", "verify"))
    return sum(step.elapsed_s for step in steps if step is not None)


def main() -> int:
    join_the_bench()
    wrong = False
    for chip in (*HIDES, *OTHERS):
        for turnaround_s in (0.001, 0.016):
            board = f"machine-{chip}"
            trial = upload(board, full(board, SIZE), turnaround_s, compare=False)
            step = trial.step("write")
            share = SIZE * 10 / BAUD / step.elapsed_s
            bad = chip in HIDES and share < SHARE
            wrong |= bad
            print(f"{chip:<14} {turnaround_s * 1000:>3.0f} ms  written in {step.elapsed_s:.3f} s: {share:.1%} of the line"
                  f"{'  BELOW 96 %' if bad else ''}", flush=True)  # fmt: skip
    board = "machine-atmega328p"
    image = full(board, 31_616)
    later = with_bytes(image, 16_000, bytes([image.pieces[0].data[16_000] ^ 1]))
    for turnaround_s in (0.001, 0.016):
        whole = upload(board, image, turnaround_s, compare=False)
        page = upload(board, later, turnaround_s, whole)
        share = work_s(page) / work_s(whole)
        bad = turnaround_s < 0.01 and share > ONE_PAGE
        wrong |= bad
        print(f"atmega328p     {turnaround_s * 1000:>3.0f} ms  all {work_s(whole):.3f} s, one page {work_s(page):.3f} s: "
              f"{share:.1%}{'  ABOVE 6 %' if bad else ''}", flush=True)  # fmt: skip
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
