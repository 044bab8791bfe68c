"""Boards whose loaders run in emulators, by the name `machine-CHIP`; for the bench, by its entry point.

The Cortex-M ones need nothing but unicorn. The portable loader and the AVRs are there once `built` has made them.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cache

from greenstep.bench import boards as bench_boards
from greenstep.bench import samples
from greenstep.bench.boards import BenchBoard
from greenstep.bench.circuits import CapacitorPulse
from greenstep.bench.families import doorstep
from greenstep.bench.faults import Faults
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.image import Image
from greenstep.core.loaders.images import make
from greenstep.core.loaders.loader_values import LoaderValues

from .built import FOLDER
from .cortex import Cortex, Nrf5, SamD21
from .emulated import EmulatedChip, Layout, Machine
from .piped import Piped

_TEXTS = ("queen lamp 1.4 ready", "queen lamp 1.5 ready")
_USUAL = LoaderValues(16e6, 115200, 1.5)


@cache
def loader_of(chip: str) -> tuple[int, bytes]:
    """The loader as a person would put it in: where it is, and its bytes."""
    piece = make(Catalogue.load().find(chip).first, _USUAL).image.pieces[0]
    return piece.address, piece.data


def _board(name: str, chip: str, machine: Callable[[], Machine], layout: Layout, loaded: bool) -> BenchBoard:
    def make_chip(faults: Faults) -> EmulatedChip:
        return EmulatedChip(machine(), layout, loader_of(chip) if loaded else (0, b""), faults)

    return BenchBoard(
        f"machine-{name}", chip, f"{name}, emulated", make_chip, layout.program, CapacitorPulse("dtr"), _TEXTS,
        dialect="doorstep", held=layout.sealed,
    )  # fmt: skip


# --- Cortex-M

CORTEX: dict[str, Callable[[], Cortex]] = {
    "nrf51822": cache(lambda: Nrf5(False)),
    "nrf52832": cache(lambda: Nrf5(True)),
    "samd21g18": cache(SamD21),
}


def _cortex(chip: str) -> BenchBoard:
    kind = doorstep.KINDS[chip]
    return _board(chip, chip, CORTEX[chip], Layout(kind.begin, kind.seal, kind.top, kind.program), True)


# --- the portable loader


def _plain_from(start: int) -> Callable[[str, int, int], Image]:
    def program(text: str, size: int, seed: int) -> Image:
        return samples.code_of(samples.pic_image(text, size, seed, start))

    return program


PORTABLE = {
    1: Layout(0, 0x7B80, 0x8000, samples.plain_image),
    2: Layout(0x800, 0xFC00, 0x10000, _plain_from(0x800)),
}


@cache
def portable(kind: int) -> Piped:
    return Piped([str(FOLDER / f"portable-{kind}")])


def _portable(kind: int) -> BenchBoard:
    return _board(f"portable-{kind}", "door-any", lambda: portable(kind), PORTABLE[kind], False)


# --- AVR

AVR = {  # bytes of flash and of a page, the loader's room, its RX
    "atmega168": (0x4000, 128, 1024, "D"),
    "atmega328p": (0x8000, 128, 1024, "D"),
    "atmega644p": (0x10000, 256, 1024, "D"),
    "atmega1284p": (0x20000, 256, 2048, "D"),
    "atmega2560": (0x40000, 256, 2048, "E"),
}


@cache
def avr(chip: str) -> Piped:
    flash, _, room, port = AVR[chip]
    named = "atmega644" if chip == "atmega644p" else chip
    return Piped([str(FOLDER / "simavr"), named, "16000000", hex(flash - room), port, "0"])


def _avr(chip: str) -> BenchBoard:
    flash, page, room, _ = AVR[chip]
    layout = Layout(0, flash - room - page, flash, samples.avr_image)
    return _board(chip, chip, lambda: avr(chip), layout, True)


# --- PIC18


@cache
def pic18() -> Piped:
    return Piped([str(FOLDER / "gpsim"), "16000000"])


def _pic18() -> BenchBoard:
    kind = doorstep.KINDS["pic18f46k22"]
    return _board("pic18f46k22", "pic18f46k22", pic18, Layout(kind.begin, kind.seal, kind.top, kind.program), True)


BOARDS = (
    *map(_cortex, CORTEX),
    *(map(_portable, PORTABLE) if (FOLDER / "portable-1").exists() else ()),
    *(map(_avr, AVR) if (FOLDER / "simavr").exists() else ()),
    *((_pic18(),) if (FOLDER / "gpsim").exists() else ()),
)


def join_the_bench() -> None:
    """Make them boards of the bench in this process, as the entry point does for a command."""
    bench_boards.BOARDS.bring(BOARDS)
