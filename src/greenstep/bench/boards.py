"""The boards on the bench: which chip, its circuit, and how a person would reach it.

Each family brings its boards in the file of its simulated chip: `families/NAME.py`, or in another package a module
named by the entry point `greenstep.bench`. That file has them as `BOARDS`, and their names in the first lines of its
docstring: it is loaded only for a name that stands there, or to list them all.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import replace
from functools import cached_property, partial
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any

from greenstep.core.chips.plugins import added
from greenstep.core.frozen import frozen

from .circuits import Circuit, CrossPair, NoLines

if TYPE_CHECKING:
    from greenstep.core.image import Image
    from greenstep.core.plan.write_options import TalkLine

    from .chip import SimulatedChip
    from .faults import Faults
    from .line import SimulatedLine

PROBE = ("brood probe 1.6 ready", "brood probe 1.7 ready")
SCALE = ("hive scale 2.3 ready", "hive scale 2.4 ready")
LIFT = ("frame lift 1.0 ready", "frame lift 1.1 ready")
GAUGE = ("rain gauge 0.6 ready", "rain gauge 0.7 ready")
GATEWAY = ("apiary gateway 1.0", "apiary gateway 1.1")
COUNTER = ("entrance counter 1.1", "entrance counter 1.2")
PUMP = ("feeder pump 0.4 ready", "feeder pump 0.5 ready")
FAN = ("smoke fan 0.8 ready", "smoke fan 0.9 ready")
APIARY = (
    *("brood-probe", "hive-scale", "frame-lift", "entrance-counter", "apiary-gateway", "rain-gauge"),
    *("feeder-pump", "smoke-fan"),
)
"""The boards of the example."""


def as_it_is(image: Image) -> Image:
    """What most chips hold after an upload."""
    return image


@frozen
class BenchBoard:
    """`chip` is a name of the catalogue, `title` how the simulated one is shown. `program` makes the image of a
    program from the text it prints, its size in bytes and a seed; `held` turns an image into what the chip then
    holds. `texts` are what last week's and this week's program print. `baud` is the bootloader's, `console` the
    program's. `dialect` is given if it is not the chip's default, `settings` are the dialect's own. `boot_level`:
    what selects the bootloader."""

    name: str
    chip: str
    title: str
    make: Callable[[Faults], SimulatedChip]
    program: Callable[[str, int, int], Image]
    circuit: Circuit
    texts: tuple[str, str]
    baud: int = 115200
    console: int = 115200
    dialect: str = ""
    settings: tuple[tuple[str, str | tuple[TalkLine, ...] | Image], ...] = ()
    held: Callable[[Image], Image] = as_it_is
    boot_level: str = "low"

    def build(self, faults: Faults | None = None, turnaround_s: float = 0.001) -> SimulatedLine:
        """A new board of this kind, with last week's program in it."""
        from .faults import Faults
        from .line import SimulatedLine

        faults = faults or Faults()
        chip = self.make(faults)
        for piece in self.held(self.program(self.texts[0], 6000, 99)).pieces:
            chip.flash[piece.address - chip.base : piece.end - chip.base] = piece.data
        crossed = self.boot_level == "high" and isinstance(self.circuit, CrossPair)
        return SimulatedLine(chip, CrossPair("high") if crossed else self.circuit, faults, turnaround_s)


def board_of(
    kind: Any,
    simulated: Callable[[Any, Faults], SimulatedChip],
    program: Callable[[Any, str, int, int], Image],
    name: str,
    circuit: Circuit,
    texts: tuple[str, str],
    chip: str = "",
    **more: Any,
) -> BenchBoard:
    """The board of one kind of a family's chips, called like its chip unless that is said. `kind` has a title;
    `simulated` and `program` are given it first. `more` are fields of BenchBoard."""
    return BenchBoard(
        name, chip or name, kind.title, partial(simulated, kind), partial(program, kind), circuit, texts, **more
    )


def any_kind(program: Callable[[str, int, int], Image]) -> Callable[[Any, str, int, int], Image]:
    """A program that is the same for all kinds of a family."""
    return lambda kind, text, size, seed: program(text, size, seed)


_FIRST = ("stm32", "avr", "avr_109", "avr_068", "esp", "lpc", "pic", "xmodem")
"""The families that are listed first; the others follow by name."""
_HEAD = 600
"""A family's boards are named within so many characters of its file."""


class _Boards(Mapping[str, BenchBoard]):
    """By name."""

    def __init__(self) -> None:
        self._brought: dict[str, BenchBoard] = {}

    @cached_property
    def _all(self) -> dict[str, BenchBoard]:
        plugins = (point.value for point in added("greenstep.bench"))
        boards = {
            board.name: board for name in (*families_naming(""), *plugins) for board in import_module(name).BOARDS
        }
        return {name: boards[name] for name in APIARY} | boards

    def bring(self, boards: Iterable[BenchBoard]) -> None:
        """Add boards in this process only."""
        self._brought.update((board.name, board) for board in boards)

    def __getitem__(self, name: str) -> BenchBoard:
        if name in self._brought:
            return self._brought[name]
        for module in families_naming(name):
            for board in import_module(module).BOARDS:
                if board.name == name:
                    found: BenchBoard = board
                    return found
        return self._all[name]

    def __iter__(self) -> Iterator[str]:
        return iter({**self._all, **self._brought})

    def __len__(self) -> int:
        return len({**self._all, **self._brought})


def families_naming(word: str) -> list[str]:
    """The modules in `families/` that begin with a docstring in which a word stands."""
    files = {file.stem: file for file in sorted(Path(__file__).with_name("families").glob("[a-z]*.py"))}
    order = [*_FIRST, *(name for name in files if name not in _FIRST)]
    return [f"{__package__}.families.{name}" for name in order if word in _head(files[name])]


def _head(file: Path) -> str:
    with file.open(encoding="utf-8") as opened:
        return opened.read(_HEAD).split('"""')[1]


BOARDS = _Boards()


def by_hand(board: BenchBoard) -> BenchBoard:
    """The same board with three wires only."""
    return replace(board, circuit=NoLines())
