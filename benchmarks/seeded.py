"""What the seeded benchmarks share: many runs on all processors, counted by how they ended."""

from __future__ import annotations

import sys
import time
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ProcessPoolExecutor
from typing import TypeVar

Result = TypeVar("Result")
_SHOWN = 20


def asked_for(runs: int) -> tuple[int, int, list[str]]:
    """From the command line: how many runs, the first seed, and what follows."""
    words = sys.argv[1:]
    return int(words[0]) if words else runs, int(words[1]) if len(words) > 1 else 0, words[2:]


def on_all_processors(
    work: Callable[..., Result], rows: Sequence[tuple[object, ...]], chunk: int = 50
) -> list[Result]:
    """What `work` returns for each row of arguments, in their order."""
    with ProcessPoolExecutor() as pool:
        return list(pool.map(work, *zip(*rows, strict=True), chunksize=chunk))


def show_counts(ended: Iterable[tuple[str, str]], width: int) -> None:
    """How many of each kind ended in each way."""
    for (kind, how), number in sorted(Counter(ended).items()):
        print(f"{kind:<10} {how:<{width}} {number:6,}")


def show_wrong(wrong: Sequence[object], sentence: str) -> int:
    """The first of what is wrong, and a sentence. Returns the exit status."""
    for row in wrong[:_SHOWN]:
        print(row)
    print(sentence)
    return 1 if wrong else 0


def how_it_ends(
    read: Callable[[], None],
    refusals: tuple[type[Exception], ...],
    longest_s: float,
    words: Callable[[Exception], str],
) -> tuple[str, str]:
    """('read' or 'refused' or what went wrong, and its words) of reading something that may be damaged."""
    began = time.process_time()
    ended, said = "read", ""
    try:
        read()
    except refusals as fault:
        said = words(fault)
        ended = "refused" if said else "WRONG: no message"
    except Exception as error:  # noqa: BLE001  (a traceback is what is looked for)
        ended, said = "WRONG: traceback", f"{type(error).__name__}: {error}"
    taken_s = time.process_time() - began
    return (ended, said) if taken_s <= longest_s else ("WRONG: hang", f"{taken_s:.1f} s")
