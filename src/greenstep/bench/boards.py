"""The boards on the bench: a chip, its circuit, the program that is in it, and how a person would reach it."""

from __future__ import annotations

from dataclasses import dataclass

from . import avr, stm32
from .circuits import CapacitorPulse, Circuit, DirectDtrReset, DirectRtsReset, NoLines, PinChange
from .faults import Faults
from .line import SimulatedLine
from .samples import avr_image, stm32_image

OLD_TEXT = {"stm32": "brood probe 1.6 ready", "avr": "hive scale 2.3 ready"}


@dataclass(frozen=True)
class BenchBoard:
    """`chip` is a key of the simulated kinds; `title` is what is shown; `baud` is the bootloader's."""

    name: str
    chip: str
    title: str
    circuit: Circuit
    baud: int

    def build(self, faults: Faults | None = None, turnaround_s: float = 0.001) -> SimulatedLine:
        """A new one of these boards, with last week's program in it."""
        faults = faults or Faults()
        chip: stm32.SimulatedStm32 | avr.SimulatedAvr
        if self.chip in stm32.KINDS:
            kind = stm32.KINDS[self.chip]
            chip = stm32.SimulatedStm32(kind, faults)
            old = stm32_image(OLD_TEXT["stm32"], 6000, kind.ram_bytes, seed=99, fill=kind.erased)
        else:
            chip = avr.SimulatedAvr(avr.KINDS[self.chip], faults)
            old = avr_image(OLD_TEXT["avr"], 6000, seed=99)
        piece = old.pieces[0]
        chip.flash[: len(piece.data)] = piece.data
        return SimulatedLine(chip, self.circuit, faults, turnaround_s)


def _boards() -> dict[str, BenchBoard]:
    circuits: dict[str, Circuit] = {"stm32f072": DirectDtrReset(), "stm32f103": DirectRtsReset()}
    boards = [
        BenchBoard("brood-probe", "stm32f072", stm32.KINDS["stm32f072"].title, DirectDtrReset(), 115200),
        BenchBoard("hive-scale", "atmega328p", avr.KINDS["atmega328p"].title, CapacitorPulse("dtr"), 115200),
    ]
    for name, kind in stm32.KINDS.items():
        boards.append(BenchBoard(name, name, kind.title, circuits.get(name, DirectDtrReset()), 115200))
    for avr_name, avr_kind in avr.KINDS.items():
        boards.append(BenchBoard(avr_name, avr_name, avr_kind.title, CapacitorPulse("dtr"), avr_kind.baud))
    return {board.name: board for board in boards}


BOARDS = _boards()


@dataclass(frozen=True)
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
    return BenchBoard(board.name, board.chip, board.title, NoLines(), board.baud)
