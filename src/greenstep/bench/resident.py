"""What boards with a resident bootloader have in common: memories with the loader in them, a program that runs if
there is one, and a loader that every external reset starts."""

from __future__ import annotations

from abc import abstractmethod

from greenstep.core.link import LineSettings

from . import application
from .chip import Program, SimulatedChip
from .faults import Faults


class SimulatedResident(SimulatedChip):
    """One board. `flash` and `eeprom` are its content, `console` is where the program talks."""

    vector_bytes = 2
    """This many blank bytes at 0 mean that there is no program."""

    def __init__(
        self,
        faults: Faults | None,
        flash_bytes: int,
        console: LineSettings,
        loader: bytes = b"",
        eeprom_bytes: int = 0,
    ) -> None:
        super().__init__()
        self.faults = faults or Faults()
        self.flash = bytearray(b"\xff") * flash_bytes
        self.flash[flash_bytes - len(loader) :] = loader
        if eeprom_bytes:
            self.eeprom = bytearray(b"\xff") * eeprom_bytes
        self.console = self.settings = console
        self.running = False

    @abstractmethod
    def loader(self) -> Program:
        """The loader, from reset on."""

    def boot(self, boot_selected: bool) -> Program:
        """There is no boot pin: every reset runs the loader, which times out after a while."""
        return self.program() if self.faults.no_boot else self.loader()

    def brown_out(self, at_s: float) -> None:
        """Only an external reset makes the loader listen: any other starts the program."""
        self.run_from(at_s, self.program())

    def program(self) -> Program:
        """The program, if the flash holds one."""
        self.running = True
        if not self.flash[: self.vector_bytes].strip(b"\xff"):
            return application.idle(1e9)
        return application.run(self, bytes(self.flash), self.console, self.faults)
