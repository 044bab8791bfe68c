"""The supply cut at every 1 % of an upload, for every dialect: does the next upload end green, with the right flash?
And at every character for a loader that only a jump in the program's own flash leads to: is it still reached?

`python -m benchmarks.power_cuts [STEP_PERCENT [DIALECT …]]`
"""

from __future__ import annotations

import sys

from greenstep.bench.families.pic import SimulatedAn1310
from greenstep.bench.trial import Trial, prepare, run, sample_for

from . import beside
from .seeded import on_all_processors, show_counts, show_wrong

BOARDS = {dialect: boards[0] for dialect, boards in beside.BOARDS.items()}
BOARDS |= {"esp-rom": "esp32", "pic-an851": "pic18f4620"}
_BYTES = 2300
_CLEAN: dict[str, int] = {}


def cut_at(board: str, percent: int) -> tuple[str, Trial, Trial]:
    """(how it ended, the upload that was cut, the next one). The new program comes over an older one; when the chip
    has received so many characters its supply goes, and what it holds then is what the next upload meets."""
    old, new = sample_for(board, _BYTES, seed=5), sample_for(board, _BYTES, seed=6)
    if board not in _CLEAN:
        _CLEAN[board] = run(board, {"flash": new}).line.to_chip_count
    place = max(1, _CLEAN[board] * percent // 100)
    first, broken = prepare(board, {"flash": new}, faults=(f"cut-after={place}",))
    seeded = run(board, {"flash": old})
    _hand_over(seeded, broken)
    broken.events.extend(first.run())
    second, after = prepare(board, {"flash": new})
    _hand_over(broken, after)
    after.events.extend(second.run())
    if after.end.exit_code:
        return f"WRONG: the next one ended with {after.end.exit_code}", broken, after
    if not after.holds(new):
        return "WRONG: green, flash wrong", broken, after
    how = "went on to green" if broken.end.exit_code == 0 else "ended with a finding"
    return f"cut one {how}, next one green", broken, after


def _hand_over(before: Trial, after: Trial) -> None:
    """The later trial's chip holds what the earlier one's did."""
    for memory in ("flash", "eeprom"):
        content = getattr(before.line.chip, memory, None)
        if content is not None:
            getattr(after.line.chip, memory)[:] = content


def reached_after(place: int) -> bool:
    """Whether reset leads to the loader when the supply went at a character of an upload over an older program."""
    runner, trial = prepare("pic18f46k22", {"flash": sample_for("pic18f46k22", 900)}, faults=(f"cut-after={place}",))
    chip = trial.line.chip
    assert isinstance(chip, SimulatedAn1310)
    chip.flash[4:6000] = sample_for("pic18f46k22", 6000, seed=9).pieces[0].data[4:6000]
    trial.events.extend(runner.run())
    return chip.reached() == chip.kind.loader[0]


def outcome(dialect: str, percent: int) -> tuple[str, int, str]:
    """For a pool of processes."""
    return dialect, percent, cut_at(BOARDS[dialect], percent)[0]


def main() -> int:
    step = int(sys.argv[1]) if len(sys.argv) > 1 else 1
    dialects = sys.argv[2:] or list(BOARDS)
    wanted = [(dialect, percent) for dialect in dialects for percent in range(step, 100, step)]
    results = on_all_processors(outcome, wanted, 11)
    show_counts(((dialect, how) for dialect, _, how in results), 45)
    wrong = [result for result in results if result[2].startswith("WRONG")]
    places = range(1, run("pic18f46k22", {"flash": sample_for("pic18f46k22", 900)}).line.to_chip_count)
    reached = on_all_processors(reached_after, [(place,) for place in places])
    print(
        f"pic-an1310 cut at each of {len(places):,} characters: {reached.count(False)} times the loader was out of reach"
    )
    wrong += [
        ("pic-an1310", place, "WRONG: out of reach") for place, good in zip(places, reached, strict=True) if not good
    ]
    return show_wrong(
        wrong, f"{len(results):,} cuts, {len(wrong)} after which the next upload was not green with the right flash"
    )


if __name__ == "__main__":
    sys.exit(main())
