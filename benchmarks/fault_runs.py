"""Uploads with one damaged character each, seeded: green with the right flash, or a failure with a finding.

Every other one meets a chip that holds the image already but for a few bytes, so that only some of it is written.

`python -m benchmarks.fault_runs [RUNS [FIRST_SEED [DIALECT …]]]`, so many for each dialect
"""

from __future__ import annotations

import random
import sys
import traceback
from collections import Counter
from dataclasses import dataclass

from greenstep.bench.trial import Trial, prepare, run, sample_for
from greenstep.core.image import Image

from .seeded import asked_for, on_all_processors, show_counts, show_wrong

BOARDS = {
    "stm32-rom": ("stm32f072", "stm32f103", "stm32l053", "stm32g071", "stm32c031"),
    "avr-v1": ("atmega328p", "atmega168"),
    "avr-v2": ("atmega2560", "atmega1280"),
    "avr-109": ("atmega32u4", "at90usb1286"),
    "esp-rom": ("esp8266", "esp32", "esp32c3"),
    "lpc-isp": ("lpc1769", "lpc1114", "lpc812", "lpc845"),
    "pic-an851": ("pic18f4520", "pic18f4620"),
    "pic-an1310": ("pic18f46k22", "pic18f67j50"),
    "xmodem": ("smoke-fan", "xmodem-sum", "xmodem-crc", "ymodem"),
}
"""The bench boards that stand for each dialect."""
LONGEST_CLIMB_S = 300.0


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


_CLEAN: dict[tuple[str, bool], Trial] = {}
_CHANGED = (100, 1400, 1500)  # bytes of the image, from its start


def upload(board: str, image: Image, nearly_there: bool, faults: tuple[str, ...] = (), seed: int = 0) -> Trial:
    """An upload to a board with last week's program, or with all but a few bytes of this one."""
    if not nearly_there:
        return run(board, {"flash": image}, faults=faults, seed=seed)
    held = clean(board, image, False).line.chip
    climb, trial = prepare(board, {"flash": image}, faults=faults, seed=seed)
    chip = trial.line.chip
    chip.flash[:] = held.flash
    for offset in _CHANGED:
        chip.flash[image.lowest - chip.base + offset] ^= 0x21
    trial.events.extend(climb.run())
    return trial


def clean(board: str, image: Image, nearly_there: bool) -> Trial:
    if (board, nearly_there) not in _CLEAN:
        _CLEAN[board, nearly_there] = upload(board, image, nearly_there)
    return _CLEAN[board, nearly_there]


def one_run(dialect: str, seed: int) -> FaultRun:
    """The run of a seed with a dialect, always the same."""
    source = random.Random(seed)
    board = source.choice(BOARDS[dialect])
    image = sample_for(board, 2300, seed=5)
    nearly_there = bool(source.getrandbits(1))
    line = clean(board, image, nearly_there).line
    direction = source.choice(("to-chip", "to-host"))
    total = line.to_chip_count if direction == "to-chip" else line.to_host_count
    kind = source.choice(("drop", "flip"))
    place = source.randrange(total)
    fault = f"{kind}-{direction}={place}" + (f":{source.randrange(1, 256):02X}" if kind == "flip" else "")
    try:
        trial = upload(board, image, nearly_there, (fault,))
    except Exception as error:  # noqa: BLE001  (a traceback is one of the results that are counted)
        return FaultRun(
            seed, dialect, board, fault, "WRONG: traceback", "".join(traceback.format_exception(error)[-3:])
        )
    return FaultRun(seed, dialect, board, fault, *judge(trial, image), nearly_there)


def judge(trial: Trial, image: Image, longest_s: float = LONGEST_CLIMB_S) -> tuple[str, str]:
    end = trial.end
    assert trial.link is not None
    if trial.link.now() > longest_s:
        return "WRONG: hang", f"{trial.link.now():.0f} s"
    right = trial.holds(image)
    if end.exit_code == 0:
        return ("green, flash right", "") if right else ("WRONG: green, flash wrong", "")
    if not trial.findings:
        return "WRONG: failure without a finding", f"exit {end.exit_code}"
    return f"failed with a finding, exit {end.exit_code}", trial.findings[0].key


def main() -> int:
    runs, first, named = asked_for(1000)
    dialects = named or list(BOARDS)
    results = on_all_processors(one_run, [(name, seed) for name in dialects for seed in range(first, first + runs)])
    show_counts(((run.dialect, run.outcome) for run in results), 42)
    keys = Counter(r.detail for r in results if r.outcome.startswith("failed"))
    print("findings:", ", ".join(f"{key} {number}" for key, number in keys.most_common()))
    wrong = [result for result in results if result.wrong]
    return show_wrong(wrong, f"{len(results):,} runs, {len(wrong)} wrong")


if __name__ == "__main__":
    sys.exit(main())
