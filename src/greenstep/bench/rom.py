"""A simulated chip whose loader lies outside of the program's flash: in ROM, or where no command reaches it."""

from __future__ import annotations

from typing import ClassVar

from greenstep.core.link import LineSettings

from . import application
from .chip import Program, SimulatedChip
from .faults import Faults


class SimulatedRom(SimulatedChip):
    """`measured_on` is the character whose bits the loader measures once to learn the rate, None if it does not
    measure; another one is taken for a rate that is `taken_for` times what was sent."""

    measured_on: ClassVar[int | None] = None
    taken_for: ClassVar[tuple[int, int]] = (1, 3)

    def __init__(self, flash_bytes: int, faults: Faults | None, baud: int = 115200) -> None:
        super().__init__()
        self.faults = faults or Faults()
        self.flash = bytearray(b"\xff") * flash_bytes
        self.settings = self.console = LineSettings(baud)
        self.running = False
        self._measuring = False
        self._leaves = False

    def application(self) -> Program:
        self.running = True
        return application.run(self, bytes(self.flash), self.console, self.faults)

    def hear_raw(self, value: int, sent: LineSettings) -> bool:
        if not self._measuring or not self._listening:
            return False
        self._measuring = False
        right = value == self.measured_on and self.follows(sent.baud)
        share, of = self.taken_for
        self.settings = LineSettings(sent.baud if right else max(300, sent.baud * share // of))
        if not right:
            self.violation(f"rate measured on {value:02X}")
        return right
