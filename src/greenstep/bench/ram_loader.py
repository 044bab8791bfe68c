"""What chips have in common whose loader only fills RAM: a program in their own flash that any reset starts."""

from __future__ import annotations

from greenstep.core.link import LineSettings

from . import application
from .chip import Program, SimulatedChip
from .faults import Faults


class SimulatedRamLoader(SimulatedChip):
    """`flash` is the RAM that is loaded, and at first last week's program, which lies in the chip's own flash."""

    def __init__(self, faults: Faults | None, ram_bytes: int, console: LineSettings, base: int = 0) -> None:
        super().__init__()
        self.faults = faults or Faults()
        self.base = base
        self.flash = bytearray(ram_bytes)
        self.stored = bytearray(ram_bytes)
        self.console = self.settings = console
        self.running = False

    def begin(self) -> None:
        """At a reset."""
        if not any(self.stored):
            self.stored[:] = self.flash

    @property
    def memories(self) -> tuple[str, ...]:
        return ("flash", "stored")

    def own_program(self) -> Program:
        """What lies in its flash."""
        self.running = True
        return application.run(self, bytes(self.stored), self.console, self.faults)

    def loaded_program(self) -> Program:
        """What lies in RAM."""
        self.running = True
        return application.run(self, bytes(self.flash), self.console, self.faults)
