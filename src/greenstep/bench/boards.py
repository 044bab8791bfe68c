"""The boards on the bench: which chip, its circuit, and how a person would reach it. The chip's behaviour is loaded
when a board is built: a command that only names a board needs none of it.

A family can also bring its boards in the file of its simulated chip: `families/NAME.py`, or in another package a
module named by the entry point `greenstep.bench`. That file has them as `BOARDS`, and their names in its docstring.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import replace
from functools import cached_property
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING

from greenstep.core.chips.plugins import added
from greenstep.core.frozen import frozen
from greenstep.core.plan.write_options import TalkLine

from .circuits import (
    CapacitorPulse,
    Circuit,
    CrossPair,
    DtrResetRtsBoot,
    NoLines,
    RtsResetDtrBoot,
    UsbHangUp,
)

if TYPE_CHECKING:
    from greenstep.core.image import Image

    from .faults import Faults
    from .line import SimulatedLine
    from .stock import Stock


@frozen
class BenchBoard:
    """`chip` is a name of the catalogue; `kind` is the simulated chip's among its `family`; `baud` is the
    bootloader's, and the program's unless `console` says otherwise. `texts` are what last week's and this week's
    program print. `dialect` is given if it is not the chip's default, `settings` are the dialect's own. `stock` is
    what runs on the board, if its family is none of `stock.py`."""

    name: str
    family: str
    kind: str
    chip: str
    circuit: Circuit
    baud: int
    texts: tuple[str, str]
    console: int = 115200
    dialect: str = ""
    settings: tuple[tuple[str, str | tuple[TalkLine, ...] | Image], ...] = ()
    stock: Callable[[], Stock] | None = None

    @property
    def title(self) -> str:
        """How the chip is shown."""
        return self._stock().title

    def program(self, text: str, size: int, seed: int) -> Image:
        """The image of a program that prints `text`, of `size` bytes."""
        return self._stock().program(text, size, seed)

    def held(self, image: Image) -> Image:
        """What the chip holds after `image` was written."""
        return self._stock().held(image)

    def build(self, faults: Faults | None = None, turnaround_s: float = 0.001) -> SimulatedLine:
        """A new board of this kind, with last week's program in it."""
        from .faults import Faults
        from .line import SimulatedLine

        faults = faults or Faults()
        chip = self._stock().make(faults)
        for piece in self.held(self.program(self.texts[0], 6000, 99)).pieces:
            chip.flash[piece.address - chip.base : piece.end - chip.base] = piece.data
        crossed = self.family == "stm32" and isinstance(self.circuit, CrossPair)
        return SimulatedLine(chip, CrossPair("high") if crossed else self.circuit, faults, turnaround_s)

    def _stock(self) -> Stock:
        if self.stock is not None:
            return self.stock()
        from .stock import take

        return take(self.family, self.kind)


_PROBE = ("brood probe 1.6 ready", "brood probe 1.7 ready")
_SCALE = ("hive scale 2.3 ready", "hive scale 2.4 ready")
_LIFT = ("frame lift 1.0 ready", "frame lift 1.1 ready")
_GAUGE = ("rain gauge 0.6 ready", "rain gauge 0.7 ready")
_GATEWAY = ("apiary gateway 1.0", "apiary gateway 1.1")
_COUNTER = ("entrance counter 1.1", "entrance counter 1.2")
_PUMP = ("feeder pump 0.4 ready", "feeder pump 0.5 ready")
_FAN = ("smoke fan 0.8 ready", "smoke fan 0.9 ready")


def _stm32(chip: str, name: str = "") -> BenchBoard:
    circuit = RtsResetDtrBoot() if chip == "stm32f103" else DtrResetRtsBoot()
    return BenchBoard(name or chip, "stm32", chip, chip, circuit, 115200, _PROBE)


def _avr(chip: str, baud: int, name: str = "") -> BenchBoard:
    return BenchBoard(name or chip, "avr", chip, chip, CapacitorPulse("dtr"), baud, _SCALE, baud)


def _avr_109(chip: str, circuit: Circuit) -> BenchBoard:
    return BenchBoard(chip, "avr-109", chip, chip, circuit, 57600, _SCALE, 57600)


def _avr_068(chip: str, baud: int, name: str = "", dialect: str = "") -> BenchBoard:
    return BenchBoard(name or chip, "avr-068", chip, chip, CapacitorPulse("dtr"), baud, _LIFT, baud, dialect)


def _esp(chip: str, name: str = "") -> BenchBoard:
    texts = _GAUGE if chip == "esp8266" else _GATEWAY
    return BenchBoard(name or chip, "esp", chip, chip, CrossPair(), 115200, texts)


def _lpc(chip: str, name: str = "") -> BenchBoard:
    return BenchBoard(name or chip, "lpc", chip, chip, DtrResetRtsBoot("low"), 115200, _COUNTER)


def _pic(family: str, chip: str, name: str = "", dialect: str = "") -> BenchBoard:
    return BenchBoard(name or chip, family, chip, chip, CapacitorPulse("dtr"), 115200, _PUMP, dialect=dialect)


def _xmodem(name: str, named: bool = False) -> BenchBoard:
    settings: dict[str, str | tuple[TalkLine, ...]] = {
        "opening": (TalkLine("u uploads", 5.0, "u"),),
        "closing": (TalkLine("g goes", 5.0, "g"),),
    }
    if named:
        settings["block"] = "ymodem"
    return BenchBoard(
        name, "xmodem", name, "any", DtrResetRtsBoot(), 115200, _FAN, settings=tuple(settings.items())
    )  # fmt: skip


APIARY = (
    *("brood-probe", "hive-scale", "frame-lift", "entrance-counter", "apiary-gateway", "rain-gauge"),
    *("feeder-pump", "smoke-fan"),
)
"""The boards of the example."""


def _boards() -> dict[str, BenchBoard]:
    boards = [
        _stm32("stm32f072", "brood-probe"),
        _avr("atmega328p", 115200, "hive-scale"),
        _avr_068("atmega2560", 115200, "frame-lift"),
        _lpc("lpc1769", "entrance-counter"),
        _esp("esp32", "apiary-gateway"),
        _esp("esp8266", "rain-gauge"),
        _pic("an1310", "pic18f46k22", "feeder-pump"),
        *(
            _stm32(chip)
            for chip in (
                "stm32f072",
                "stm32f103",
                "stm32f407",
                "stm32l053",
                "stm32g071",
                "stm32c031",
                "stm32g0b1",
                "stm32l152",
            )
        ),
        _avr("atmega328p", 115200),
        _avr("atmega168", 57600),
        _avr("atmega1284p", 115200),
        _avr_109("atmega32u4", UsbHangUp()),
        _avr_109("at90usb1286", CapacitorPulse("dtr")),
        _avr_068("atmega2560", 115200),
        _avr_068("atmega1280", 57600, dialect="avr-068"),
        *(_esp(chip) for chip in ("esp8266", "esp32", "esp32s3", "esp32c3", "esp32c2", "esp32p4")),
        *(_lpc(chip) for chip in ("lpc1769", "lpc1114", "lpc812", "lpc845", "lpc4357")),
        _pic("an851", "pic18f4520", dialect="pic-an851"),
        _pic("an851", "pic18f4620", dialect="pic-an851"),
        _pic("an1310", "pic18f46k22"),
        _pic("an1310", "pic18f67j50"),
        _xmodem("smoke-fan"),
        _xmodem("xmodem-sum"),
        _xmodem("xmodem-crc"),
        _xmodem("ymodem", named=True),
        _xmodem("ymodem-once", named=True),
        _xmodem("ymodem-twice", named=True),
    ]
    return {board.name: board for board in boards}


class _Boards(Mapping[str, BenchBoard]):
    """By name. Files of families are only loaded for a name that they mention, or to list them all."""

    _own = _boards()

    @cached_property
    def _brought(self) -> dict[str, BenchBoard]:
        plugins = (point.value for point in added("greenstep.bench"))
        return {board.name: board for name in (*_families(""), *plugins) for board in import_module(name).BOARDS}

    def bring(self, boards: Iterable[BenchBoard]) -> None:
        """Add boards in this process only."""
        self._own.update((board.name, board) for board in boards)

    def __getitem__(self, name: str) -> BenchBoard:
        if name in self._own:
            return self._own[name]
        for module in _families(name):
            for board in import_module(module).BOARDS:
                if board.name == name:
                    found: BenchBoard = board
                    return found
        return self._brought[name]

    def __iter__(self) -> Iterator[str]:
        return iter({**self._own, **self._brought})

    def __len__(self) -> int:
        return len({**self._own, **self._brought})


def _families(word: str) -> list[str]:
    """The modules in `families/` whose docstrings contain a word."""
    files = sorted(Path(__file__).with_name("families").glob("[a-z]*.py"))
    return [
        f"{__package__}.families.{file.stem}" for file in files if word in file.read_text("utf-8").split('"""')[1]
    ]


BOARDS = _Boards()


def by_hand(board: BenchBoard) -> BenchBoard:
    """The same board with three wires only."""
    return replace(board, circuit=NoLines())
