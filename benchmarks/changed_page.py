"""One changed page in a full flash, against the whole upload, on the virtual clock: `python -m benchmarks.changed_page`

Limits: at most 15 % of the time of erasing, writing and verifying everything where the chip can sum its flash, 60 %
where it must be read back, and 15 % again with --compare journal where the chip tells a number of its own.
"""

from __future__ import annotations

import random
import sys
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace

from greenstep.bench.boards import BOARDS
from greenstep.bench.trial import Trial, prepare, sample_for
from greenstep.core.image import Image, Piece
from greenstep.core.image.edit import with_bytes
from greenstep.core.image.granules import Remembered, granules_of
from greenstep.core.plan.write_options import CompareWith

SUMMED, READ, TRUSTED = 0.15, 0.60, 0.15


@dataclass(frozen=True)
class Case:
    """A bench board and how many bytes fill its flash; `trust`: the journal knows the chip."""

    board: str
    size: int
    limit: float | None
    trust: bool = False


CASES = (
    Case("stm32c031", 32 << 10, SUMMED),
    Case("lpc845", 64 << 10, SUMMED),
    Case("esp32", 1 << 20, SUMMED),
    Case("stm32f072", 128 << 10, READ),
    Case("stm32f103", 64 << 10, READ),
    Case("stm32l053", 64 << 10, READ),
    Case("stm32f407", 1 << 20, READ),
    Case("atmega328p", 32_256, READ),
    Case("atmega1284p", 130_048, READ),
    Case("atmega2560", 253_952, None),  # erases in order from 0 on: all is written, or nothing
    Case("lpc1769", 512 << 10, READ),
    Case("pic18f4620", 65_024, READ),
    Case("pic18f46k22", 64_500, READ),
    Case("stm32f072", 128 << 10, TRUSTED, trust=True),
    Case("stm32f103", 64 << 10, TRUSTED, trust=True),
    Case("lpc1769", 512 << 10, TRUSTED, trust=True),
    Case("esp8266", 1 << 20, TRUSTED, trust=True),
    Case("atmega32u4", 28 << 10, None),
)


@dataclass(frozen=True)
class Measured:
    """Seconds of virtual time from the first comparing to the last verifying."""

    case: Case
    full_s: float
    same_s: float
    page_s: float
    how: str
    right: bool

    @property
    def share(self) -> float:
        return self.page_s / self.full_s


def full_image(board: str, size: int) -> Image:
    """A program that fills the flash with what compresses about as a program does."""
    source = random.Random(7)
    words = [source.randbytes(12) for _ in range(3000)]
    filler = b"".join(source.choice(words) for _ in range(size // 12 + 1))
    if BOARDS[board].chip.startswith("esp"):
        return Image("pages.bin", (Piece(0x290000, filler[:size]),))
    image = sample_for(board, 4000)
    first = image.pieces[0]
    body = first.data + filler[: size - len(first.data)]
    others = tuple(piece for piece in image.pieces[1:] if piece.address > first.address + len(body))
    return replace(image, pieces=(Piece(first.address, body), *others))


def measure(case: Case) -> Measured:
    image = full_image(case.board, case.size)
    place = image.pieces[0].address + case.size // 2 + 8
    later = with_bytes(image, place, bytes([image.cut(place, 1, 0xFF)[0] ^ 1]))
    full = _upload(case, None, image, compare=False)
    same, page = _upload(case, full, image), _upload(case, full, later)
    evidence = str(page.step("compare").figures.get("how", "none"))
    right = all(trial.end.exit_code == 0 and trial.holds(wanted) for trial, wanted in ((same, image), (page, later)))
    return Measured(case, _work_s(full), _work_s(same), _work_s(page), evidence, right)


def _upload(case: Case, held: Trial | None, image: Image, compare: bool = True) -> Trial:
    runner, trial = prepare(case.board, {"flash": image}, compare=compare, start=False)
    if held is not None:
        trial.line.chip.flash[:] = held.line.chip.flash
    if case.trust:
        job = runner.job
        fill = job.choice.first.flash.erased
        before = full_image(case.board, case.size)
        options = replace(job.options, compare=CompareWith.JOURNAL)

        def recall(number: str, chip: str) -> Remembered:
            return Remembered(1, granules_of(before, fill))

        runner.job = replace(job, options=options, recall=recall)
    trial.events.extend(runner.run())
    return trial


def _work_s(trial: Trial) -> float:
    steps = (trial.step_or_none(name) for name in ("compare", "erase", "write", "verify"))
    return sum(step.elapsed_s for step in steps if step is not None)


def main() -> int:
    with ProcessPoolExecutor() as pool:
        results = list(pool.map(measure, CASES))
    print("board         bytes      all     same         one page      compared by  limit")
    wrong = 0
    for one in results:
        limit = one.case.limit
        bad = not one.right or (limit is not None and one.share > limit)
        wrong += bad
        print(
            f"{one.case.board:<12} {one.case.size:>8,} {one.full_s:7.2f} s {one.same_s:6.2f} s {one.page_s:7.2f} s "
            f"{one.share:6.1%}  {one.how:<12} {'' if limit is None else f'{limit:.0%}'}{'  WRONG' if bad else ''}"
        )
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
