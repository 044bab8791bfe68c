"""Boards that begin to answer with noise, at any character of a run, for a while or for ever: whatever was asked for
ends in an outcome with a finding, in bounded time, and never green over a wrong flash.

`python -m benchmarks.noise_boards [RUNS [FIRST_SEED]]`
"""

from __future__ import annotations

import random
import signal
import sys
import traceback
from pathlib import Path
from types import FrameType
from typing import Any

from greenstep.bench.boards import BOARDS
from greenstep.bench.trial import prepare, sample_for
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.engine.job import OpenedPort, Purpose
from greenstep.core.events import Event, RunEnded, StepEnded
from greenstep.core.link import LineSettings, Link

from .seeded import asked_for, on_all_processors, show_counts, show_wrong

_PURPOSES: tuple[Purpose, ...] = ("greet", "upload", "upload", "upload", "verify", "backup", "erase")
_LONGEST_S, _LONGEST_CPU_S = 600.0, 200.0
"""Of the simulated line; an upload of the sample takes a second or a few."""
_PATTERNS = (
    b"",
    b"\x00",
    b"\xff",
    b"A",
    b"C",
    b"\x79",
    b"hive scale 2.4 ready\r\n",
    b"\x06",
    b"\x15",
    b"\x1b[2J",
    b"OK\r\n",
)
"""What is repeated; at random if it is empty."""


class _TooLong(BaseException):
    """No Exception: nothing may take it for its own."""


class NoiseAfter:
    """A link that from a character on brings noise at the line's rate instead of answers, for `spell` characters."""

    def __init__(self, inner: Link, first: int, spell: int, pattern: bytes, source: random.Random) -> None:
        self._inner, self._first, self._last = inner, first, first + spell
        self._pattern, self._source = pattern, source
        self._heard, self._noisy_s = 0, 0.0

    def __getattr__(self, name: str) -> Any:
        return getattr(self._inner, name)

    @property
    def _noisy(self) -> bool:
        return self._first <= self._heard < self._last

    def read(self, size: int, timeout_s: float) -> bytes:
        if self._inner.now() > _LONGEST_S:
            raise _TooLong
        if not self._noisy:
            data = self._inner.read(size, timeout_s)
            self._heard += len(data)
            return data
        self._inner.discard()
        character_s = self._inner.settings.seconds(1)
        number = min(size, max(1, int(timeout_s / character_s)))
        self._inner.sleep(min(timeout_s, number * character_s) if timeout_s else character_s)
        return self._made(number)

    def discard(self) -> bytes:
        data = self._inner.discard()
        if not self._noisy:
            self._heard += len(data)
            return data
        return self._made(self._source.randrange(40))

    def _made(self, number: int) -> bytes:
        self._heard += number
        if not self._pattern:
            return self._source.randbytes(number)
        return (self._pattern * (number // len(self._pattern) + 1))[:number]


def _alarm(number: int, frame: FrameType | None) -> None:
    raise _TooLong


def one_run(seed: int) -> tuple[str, str, str]:
    """(purpose, how it ended, what was tried)."""
    source = random.Random(f"noise {seed}")
    board, purpose = source.choice(list(BOARDS)), source.choice(_PURPOSES)
    image = sample_for(board, 2300, seed=5)
    first = source.choice((0, source.randrange(20), source.randrange(200), source.randrange(3000)))
    spell = source.choice((1, 5, 40, 400, 1 << 40, 1 << 40))
    pattern = source.choice(_PATTERNS)
    about = f"{seed}: {board} {purpose}, {pattern!r} from {first} for {spell}"
    images = {"flash": image} if purpose in ("upload", "verify") else {}
    part = Catalogue.load().find(BOARDS[board].chip).first  # read as a whole, an ESP takes half an hour by itself
    region = ("flash", part.flash.usable_start, min(8192, part.flash.usable.size)) if purpose == "backup" else None
    regions = {} if region is None else {"region": region}
    runner, trial = prepare(board, images=images, purpose=purpose, patience_s=3.0, seed=seed, **regions)
    opened = runner.open_link

    def open_link(settings: LineSettings, lines: tuple[bool, bool]) -> OpenedPort:
        port = opened(settings, lines)
        return OpenedPort(NoiseAfter(port.link, first, spell, pattern, source), port.evidence)  # type: ignore[arg-type]

    runner.open_link = open_link
    events: list[Event] = []
    signal.signal(signal.SIGVTALRM, _alarm)
    signal.setitimer(signal.ITIMER_VIRTUAL, _LONGEST_CPU_S)
    try:
        for event in runner.run():
            events.append(event)
    except BaseException as error:  # noqa: BLE001  (what nobody foresaw is what is looked for)
        frames = traceback.extract_tb(error.__traceback__)
        where = " < ".join(f"{Path(at.filename).name}:{at.lineno}" for at in frames[-2::-1][:6])
        return purpose, "WRONG: itself failed", f"{about}: {type(error).__name__}: {error} at {where}"
    finally:
        signal.setitimer(signal.ITIMER_VIRTUAL, 0)
    trial.events = events
    end = events[-1] if events else None
    if not isinstance(end, RunEnded):
        return purpose, "WRONG: no end", about
    verified = any(isinstance(e, StepEnded) and e.step == "verify" and e.outcome == "green" for e in events)
    if end.exit_code == 0 and verified and images and not trial.holds(image):
        return purpose, "WRONG: green", about
    if end.exit_code and not trial.findings:
        return purpose, "WRONG: no finding", about
    return purpose, "green" if end.green else "unproven" if end.exit_code == 0 else "failed", about


def main() -> int:
    number, first, _ = asked_for(500)
    results = on_all_processors(one_run, [(seed,) for seed in range(first, first + number)], 10)
    show_counts(((purpose, ended) for purpose, ended, _ in results), 20)
    wrong = [row for row in results if row[1].startswith("WRONG")]
    return show_wrong(wrong, f"{number:,} boards that answer with noise, {len(wrong)} that end wrongly")


if __name__ == "__main__":
    sys.exit(main())
