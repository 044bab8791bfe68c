"""A chip of the bench whose loader is real machine code in an emulator, or the portable loader on this computer.

The emulator's time is the line's: it is let go on in small steps, and whenever a character comes.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Protocol

from greenstep.bench import application
from greenstep.bench.chip import Program, SimulatedChip, Take
from greenstep.bench.faults import Faults
from greenstep.core.image import Image, Piece
from greenstep.core.link import LineSettings

_STEP_S, _IDLE_STEP_S, _SOON_S = 1e-4, 1e-3, 0.02


class Machine(Protocol):
    """What can be let run (`piped`, `thumb`)."""

    flash: bytes

    def reset(self) -> None: ...

    def hear(self, value: int) -> None: ...

    def advance(self, to_us: int) -> list[tuple[str, int]]: ...

    def cut_in(self, changes: int) -> None: ...


@dataclass(frozen=True)
class Layout:
    """Where things are: the application's region, its seal, the end of the flash; in bytes."""

    begin: int
    seal: int
    top: int
    program: Callable[[str, int, int], Image]

    def sealed(self, image: Image) -> Image:
        """With the seal that an upload leaves."""
        end = image.end
        data = image.cut(self.begin, end - self.begin, 0xFF)
        words = struct.pack("<II", len(data), zlib.crc32(data))
        return Image(image.name, (*image.pieces, Piece(self.seal, words)))


@dataclass
class Seen:
    """What happened in the machine: the addresses of the flash that were changed, and how often it started anew."""

    changed: list[int] = field(default_factory=list)
    resets: int = 0
    cut: bool = False


class EmulatedChip(SimulatedChip):
    """`loader` is what the flash holds besides the application."""

    def __init__(self, machine: Machine, layout: Layout, loader: tuple[int, bytes], faults: Faults) -> None:
        super().__init__()
        self.machine, self.layout, self.faults = machine, layout, faults
        self.settings = self.console = LineSettings(115200)
        self._held = bytearray(b"\xff") * layout.top
        self._held[loader[0] : loader[0] + len(loader[1])] = loader[1]
        self._fresh = True
        self.seen = Seen()

    @property
    def flash(self) -> bytearray:  # type: ignore[override]
        """What the machine holds by now."""
        if not self._fresh:
            self._held[:] = self.machine.flash[: self.layout.top]
            self._fresh = True
        return self._held

    def boot(self, boot_selected: bool) -> Program:
        return self._run() if not self.faults.no_boot else self._application()

    def brown_out(self, at_s: float) -> None:
        self.run_from(at_s, self.boot(False))

    def _application(self) -> Program:
        held = bytes(self.flash[self.layout.begin : self.layout.seal])
        return application.run(self, held, self.console, self.faults)

    def _run(self) -> Program:
        self.machine.flash = bytes(self.flash)
        self.machine.reset()
        self.seen.resets += 1
        self.settings = self.console
        began = heard_at = self.now
        while True:
            value = yield Take(_STEP_S if self.now - heard_at < _SOON_S else _IDLE_STEP_S)
            for letter, number in self.machine.advance(int((self.now - began) * 1e6)):
                if letter == "S":
                    heard_at = self.now
                    self.send(bytes([number]))
                elif letter == "B":
                    self.settings = LineSettings(number)
                elif letter == "F":
                    heard_at = self.now
                    self._fresh = False
                    self.seen.changed.append(number)
                elif letter == "V":
                    self.violation(f"the datasheet forbids it: {number:05X}")
                elif letter == "X":
                    self.seen.cut = True
                elif letter == "G":
                    self.restart(self._application())
                    return
            if value > -2:
                heard_at = self.now
                self.machine.hear(max(0, value))
