"""Simulated AVR boards with an AVR109 bootloader, their own USB device, from Atmel AVR109 and the parts' data sheets.
Boards: atmega32u4, at90usb1286.

Stricter than silicon: a page written without an erase before it, off its boundary or into the bootloader is not
written and noted; so is a command outside programming mode.
"""

from __future__ import annotations

from collections.abc import Generator

from greenstep.core.frozen import frozen
from greenstep.core.link import LineSettings

from .. import samples
from ..avr_loader import loader_code
from ..boards import SCALE, BenchBoard, any_kind, board_of
from ..chip import TIMED_OUT, Program, Spend, Take, Wish
from ..circuits import CapacitorPulse, Circuit, UsbHangUp
from ..faults import Faults
from ..resident import SimulatedResident

Steps = Generator[Wish, int, None]


@frozen
class Avr109Kind:
    """What distinguishes one board from another. Sizes in bytes, times in seconds. `usb`: it is entered by a hang-up
    at 1200 baud and is off the USB meanwhile; else every reset enters."""

    title: str
    signature: bytes
    flash_bytes: int
    page: int
    eeprom_bytes: int
    loader_bytes: int
    usb: bool = True
    listens_s: float = 8.0
    buffer: int = 128

    @property
    def device_code(self) -> int:
        """What `t` lists. AVR109 has no number for these parts: the last byte of the signature stands for it."""
        return self.signature[-1]


KINDS = {
    "atmega32u4": Avr109Kind(
        "ATmega32U4 on USB, entered by a hang-up at 1200 baud", b"\x1e\x95\x87", 32768, 128, 1024, 4096
    ),
    "at90usb1286": Avr109Kind(
        "AT90USB1286 on a UART, AVR109", b"\x1e\x97\x82", 131072, 256, 4096, 4096, False, 2.0, 256
    ),
}
_PAGE_S, _EEPROM_BYTE_S = 0.0045, 0.0036


class SimulatedAvr109(SimulatedResident):
    """One board. `flash` and `eeprom` are its content."""

    def __init__(self, kind: Avr109Kind, faults: Faults | None = None) -> None:
        code = loader_code(kind.loader_bytes)
        super().__init__(faults, kind.flash_bytes, LineSettings(57600), code, kind.eeprom_bytes)
        self.kind = kind
        self._words = 0
        self._programming = False
        self._left = False

    def boot(self, boot_selected: bool) -> Program:
        """On USB only the hang-up enters the loader."""
        return self.program() if self.kind.usb else super().boot(boot_selected)

    def hung_up(self, at_s: float, baud: int, dtr: bool) -> bool:
        """The hang-up: the port is closed at 1200 baud with DTR released."""
        if not self.kind.usb or baud != 1200 or dtr or not self.running or self.faults.no_boot:
            return False
        self.run_from(at_s, self.loader())
        return True

    def program(self) -> Program:
        """Nothing hears it until it is back on the USB."""
        started = super().program()
        return self._later(started) if self.leaving else started

    def _later(self, started: Program) -> Program:
        yield Spend(1.0)
        self.restart(started)

    def loader(self) -> Program:
        self.running = self._programming = self._left = False
        self.settings = self.console
        yield Spend(0.5 if self.kind.usb else 0.004)
        while not self._left:
            letter = yield Take(self.kind.listens_s)
            if letter == TIMED_OUT:
                break
            yield from self._command(letter)
        self.leaving = self.kind.usb and self._left
        self.restart(self.program())

    def _next(self) -> Generator[Wish, int, int]:
        return max(0, (yield Take(None)))

    def _word(self) -> Generator[Wish, int, int]:
        high = yield from self._next()
        return high << 8 | (yield from self._next())

    def _command(self, letter: int) -> Steps:
        answers = {
            ord("S"): b"APIARY9", ord("V"): b"23", ord("v"): b"10", ord("p"): b"S", ord("a"): b"Y",
            ord("s"): self.kind.signature[::-1], ord("b"): b"Y" + self.kind.buffer.to_bytes(2, "big"),
            ord("t"): bytes([self.kind.device_code, 0]),
        }  # fmt: skip
        if letter in answers:
            self.send(answers[letter])
        elif letter == ord("P"):
            self._programming = True
            self.send(b"\r")
        elif letter == ord("L"):
            self._programming = False
            self.send(b"\r")
        elif letter == ord("E"):
            self.send(b"\r")
            yield Spend(self.settings.seconds(2))
            self._left = True
        elif letter == ord("T"):
            self.send(b"\r" if (yield from self._next()) == self.kind.device_code else b"?")
        elif letter == ord("A"):
            self._words = yield from self._word()
            self.send(b"\r")
        elif letter == ord("H"):
            high = yield from self._next()
            self._words = high << 16 | (yield from self._word())
            self.send(b"\r")
        elif letter == ord("e"):
            yield from self._erase()
        elif letter == ord("B"):
            yield from self._write()
        elif letter == ord("g"):
            yield from self._read()
        elif letter != 0x1B:
            self.send(b"?")

    def _erase(self) -> Steps:
        if not self._programming:
            self.violation("erase outside programming mode")
            self.send(b"?")
            return
        free = self.kind.flash_bytes - self.kind.loader_bytes
        yield Spend(free / self.kind.page * _PAGE_S * self.faults.slow_erase)
        self.flash[:free] = b"\xff" * free
        self.send(b"\r")

    def _write(self) -> Steps:
        size = yield from self._word()
        memory = yield from self._next()
        values = yield from self.several(min(size, 4096))
        data = bytes(max(0, value) for value in values)
        if not self._programming or size > self.kind.buffer:
            self.violation(f"block of {size} bytes")
            self.send(b"?")
        elif memory == ord("E"):
            yield Spend(size * _EEPROM_BYTE_S)
            self.eeprom[self._words : self._words + size] = data
            self._words += size
            self.send(b"\r")
        else:
            yield from self._burn(2 * self._words, data)

    def _burn(self, start: int, data: bytes) -> Steps:
        end = start + len(data)
        if start % self.kind.page or end > self.kind.flash_bytes - self.kind.loader_bytes:
            self.violation(f"page of {len(data)} bytes at {start:05X}")
            self.send(b"?")
            return
        yield Spend(_PAGE_S)
        self.put(start, data)
        self._words += len(data) // 2
        self.send(b"\r")

    def _read(self) -> Steps:
        size = yield from self._word()
        memory = yield from self._next()
        content, start = (self.eeprom, self._words) if memory == ord("E") else (self.flash, 2 * self._words)
        if start + size > len(content):
            self.violation(f"read of {size} bytes at {start:05X}")
            self.send(b"?")
            return
        self._words += size if memory == ord("E") else size // 2
        self.send(bytes(content[start : start + size]))


def _board(chip: str, circuit: Circuit) -> BenchBoard:
    program = any_kind(samples.avr_image)
    return board_of(KINDS[chip], SimulatedAvr109, program, chip, circuit, SCALE, baud=57600, console=57600)


BOARDS = (_board("atmega32u4", UsbHangUp()), _board("at90usb1286", CapacitorPulse("dtr")))
