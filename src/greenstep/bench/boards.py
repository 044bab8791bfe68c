"""The boards on the bench: a chip, its circuit, the program that is in it, and how a person would reach it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial

from greenstep.core.frozen import frozen
from greenstep.core.image import Image
from greenstep.core.talk import TalkLine

from . import avr, avr_109, avr_v2, esp, lpc, pic, stm32, xmodem
from .chip import SimulatedChip
from .circuits import CapacitorPulse, Circuit, CrossPair, DirectDtrReset, DirectRtsReset, NoLines, PinChange, UsbTouch
from .faults import Faults
from .line import SimulatedLine
from .samples import (
    as_an1310_holds,
    avr_image,
    code_of,
    esp_image,
    lpc_image,
    pic_image,
    plain_image,
    stm32_image,
    with_sum,
)

Program = Callable[[str, int, int], Image]
"""Makes the image of a program: the text it prints, its size in bytes, a seed."""


@frozen
class BenchBoard:
    """`chip` is a name of the catalogue; `title` is what is shown; `baud` is the bootloader's, and the program's
    unless `console` says otherwise. `texts` are what last week's and this week's program print. `dialect` is said
    where it is not the chip's usual one, `settings` what it wants to be told. `held` makes of an image what the
    chip then holds."""

    name: str
    chip: str
    title: str
    circuit: Circuit
    baud: int
    make: Callable[[Faults], SimulatedChip]
    program: Program
    texts: tuple[str, str]
    console: int = 115200
    dialect: str = ""
    settings: tuple[tuple[str, object], ...] = ()
    held: Callable[[Image], Image] = lambda image: image

    def build(self, faults: Faults | None = None, turnaround_s: float = 0.001) -> SimulatedLine:
        """A new one of these boards, with last week's program in it."""
        faults = faults or Faults()
        chip = self.make(faults)
        for piece in self.held(self.program(self.texts[0], 6000, 99)).pieces:
            chip.flash[piece.address - chip.base : piece.end - chip.base] = piece.data
        return SimulatedLine(chip, self.circuit, faults, turnaround_s)


def _stm32(name: str, chip: str) -> BenchBoard:
    kind = stm32.KINDS[chip]
    circuit = DirectRtsReset() if chip == "stm32f103" else DirectDtrReset()

    def program(text: str, size: int, seed: int) -> Image:
        return stm32_image(text, size, kind.ram_bytes, seed, kind.erased)

    return BenchBoard(
        name, chip, kind.title, circuit, 115200, partial(stm32.SimulatedStm32, kind), program,
        ("brood probe 1.6 ready", "brood probe 1.7 ready"),
    )  # fmt: skip


def _avr(name: str, chip: str) -> BenchBoard:
    kind = avr.KINDS[chip]
    return BenchBoard(
        name, chip, kind.title, CapacitorPulse("dtr"), kind.baud, partial(avr.SimulatedAvr, kind), avr_image,
        ("hive scale 2.3 ready", "hive scale 2.4 ready"), kind.baud,
    )  # fmt: skip


def _avr_109(name: str) -> BenchBoard:
    kind = avr_109.KINDS[name]
    return BenchBoard(
        name, name, kind.title, UsbTouch() if kind.usb else CapacitorPulse("dtr"), 57600,
        partial(avr_109.SimulatedAvr109, kind), avr_image, ("hive scale 2.3 ready", "hive scale 2.4 ready"), 57600,
    )  # fmt: skip


def _avr_v2(name: str, chip: str, dialect: str = "") -> BenchBoard:
    kind = avr_v2.KINDS[chip]
    return BenchBoard(
        name, chip, kind.title, CapacitorPulse("dtr"), kind.baud, partial(avr_v2.SimulatedAvrV2, kind), avr_image,
        ("frame lift 1.0 ready", "frame lift 1.1 ready"), kind.baud, dialect,
    )  # fmt: skip


def _esp(name: str, chip: str) -> BenchBoard:
    kind = esp.KINDS[chip]

    def program(text: str, size: int, seed: int) -> Image:
        return esp_image(text, size, seed, kind.boot, kind.chip_id)

    texts = (
        ("rain gauge 0.6 ready", "rain gauge 0.7 ready")
        if kind.first
        else ("apiary gateway 1.0", "apiary gateway 1.1")
    )
    return BenchBoard(name, chip, kind.title, CrossPair(), 115200, partial(esp.SimulatedEsp, kind), program, texts)


def _lpc(name: str, chip: str) -> BenchBoard:
    kind = lpc.KINDS[chip]

    def program(text: str, size: int, seed: int) -> Image:
        return lpc_image(text, size, kind.ram_bytes, seed)

    return BenchBoard(
        name, chip, kind.title, DirectDtrReset("low"), 115200, partial(lpc.SimulatedLpc, kind), program,
        ("entrance counter 1.1", "entrance counter 1.2"), held=with_sum,
    )  # fmt: skip


def _pic_bottom(name: str, chip: str) -> BenchBoard:
    kind = pic.AN851_KINDS[chip]

    def program(text: str, size: int, seed: int) -> Image:
        return pic_image(text, size, seed, kind.loader[1])

    return BenchBoard(
        name, chip, kind.title, CapacitorPulse("dtr"), 115200, partial(pic.SimulatedAn851, kind), program,
        _PUMP, dialect="pic-an851", held=code_of,
    )  # fmt: skip


def _pic_end(name: str, chip: str) -> BenchBoard:
    kind = pic.AN1310_KINDS[chip]
    return BenchBoard(
        name, chip, kind.title, CapacitorPulse("dtr"), 115200, partial(pic.SimulatedAn1310, kind), pic_image,
        _PUMP, held=partial(as_an1310_holds, loader=kind.loader[0]),
    )  # fmt: skip


_PUMP = ("feeder pump 0.4 ready", "feeder pump 0.5 ready")


def _xmodem(name: str) -> BenchBoard:
    kind = xmodem.KINDS[name]
    settings: dict[str, object] = {
        "before": (TalkLine("u uploads", 5.0, "u"),),
        "after": (TalkLine("g goes", 5.0, "g"),),
    }
    if kind.named:
        settings["block"] = "ymodem"
    return BenchBoard(
        name, "resident", kind.title, DirectDtrReset(), 115200, partial(xmodem.SimulatedXmodem, kind), plain_image,
        ("smoke fan 0.8 ready", "smoke fan 0.9 ready"), settings=tuple(settings.items()),
    )  # fmt: skip


APIARY = (
    *("brood-probe", "hive-scale", "frame-lift", "entrance-counter", "apiary-gateway", "rain-gauge"),
    *("feeder-pump", "smoke-fan"),
)
"""The boards of the example."""


def _boards() -> dict[str, BenchBoard]:
    boards = [
        _stm32("brood-probe", "stm32f072"),
        _avr("hive-scale", "atmega328p"),
        _avr_v2("frame-lift", "atmega2560"),
        _lpc("entrance-counter", "lpc1769"),
        _esp("apiary-gateway", "esp32"),
        _esp("rain-gauge", "esp8266"),
        _pic_end("feeder-pump", "pic18f46k22"),
        *(_stm32(name, name) for name in stm32.KINDS),
        *(_avr(name, name) for name in avr.KINDS),
        *(_avr_109(name) for name in avr_109.KINDS),
        _avr_v2("atmega2560", "atmega2560"),
        _avr_v2("atmega1280", "atmega1280", "avr-v2"),
        *(_esp(name, name) for name in esp.KINDS),
        *(_lpc(name, name) for name in lpc.KINDS),
        *(_pic_bottom(name, name) for name in pic.AN851_KINDS),
        *(_pic_end(name, name) for name in pic.AN1310_KINDS),
        *(_xmodem(name) for name in xmodem.KINDS),
    ]
    return {board.name: board for board in boards}


BOARDS = _boards()


@frozen
class Hands:
    """A simulated person: some time after the tool began to ask, sets the boot pin and presses reset."""

    after_s: float
    order_right: bool = True

    def press(self, line: SimulatedLine, asked_at_s: float) -> None:
        """Put the moves on the line's schedule."""
        begin = asked_at_s + self.after_s
        line.change_pins(
            [
                PinChange(begin, True, self.order_right),
                PinChange(begin + 0.1, False, self.order_right),
            ]
        )


def by_hand(board: BenchBoard) -> BenchBoard:
    """The same board with three wires only."""
    return replace(board, circuit=NoLines())
