"""Simulated SAM with SAM-BA, from the data sheets ("SAM-BA boot program") and AT07175. Boards: sam3x8e, sam4s16,
samd21g18, samd51j19.

| what | in ROM (SAM3, SAM4) | resident (SAM D, L) |
|---|---|---|
| stays | while GPNVM bit 1 is clear, which only the ERASE pin does, with all of the flash | by its pin, two resets, or while there is no program |
| hang-up at 1200 baud | by a board's programming port: moves ERASE, `erases_at_hangup` | by the chip's own USB: enters the monitor |
| S, R | XMODEM on a UART, as they are by USB; there R of a power of two above 32 hangs, `hangs` | the same, without that |
| G | stack pointer and address from a pair of words, `calls_code`: the code itself | a pair of words |
| w, W | any address, unguarded | the same |
| sums | none | none |
| remembered over a reset | GPNVM bits | nothing |

What they are given to run is run, instruction by instruction. On boards with SAM3 and SAM4 a pin makes the program
hand over to SAM-BA.
"""  # noqa: E501

from __future__ import annotations

import binascii
import random
from collections.abc import Generator

from greenstep.core.image import Image, Piece
from greenstep.core.link import LineSettings

from .. import application
from ..boards import LIFT, BenchBoard, board_of
from ..chip import TIMED_OUT, Program, Spend, Take, Wish
from ..circuits import Circuit, DtrResetRtsBoot, RtsResetDtrBoot, UsbHangUp
from ..faults import Faults
from ..sam_bus import ResetAsked, SamBus, SamKind
from ..samples import body_of
from ..thumb import ThumbCpu, ThumbFault

Steps = Generator[Wish, int, None]
_MOST_INSTRUCTIONS, HZ = 8_000_000, 40e6
_SOH, _EOT, _ACK, _NAK, _CAN, _CALL = 1, 4, 6, 0x15, 0x18, 0x43
_BLOCK, _CALL_S, _STACK_TOP = 128, 0.8, 0xF00


KINDS = {
    "sam3x8e": SamKind(
        "SAM3X8E, 512 KiB", "eefc-3", 0x80000, 0x80000, 256, 256, 0x20000000, 0x10000, 0xC23,
        (0x400E0940, 0x285E0A60), ((0x80000, 0x400E0A00), (0xC0000, 0x400E0C00)), returns=b">",
    ),
    "sam4s16": SamKind(
        "SAM4S16C, 1 MiB", "eefc-4", 0x400000, 0x100000, 512, 8192, 0x20000000, 0x20000, 0xC24,
        (0x400E0740, 0x28AC0CE0), ((0x400000, 0x400E0A00),),
    ),
    "samd21g18": SamKind(
        "SAM D21G18, 256 KiB", "nvmctrl", 0, 0x40000, 64, 256, 0x20000000, 0x8000, 0xC60, (0x41002018, 0x10010305),
        monitor=0x2000, returns=b"\x06",
    ),
    "samd51j19": SamKind(
        "SAM D51J19, 512 KiB", "nvmctrl-5x", 0, 0x80000, 512, 8192, 0x20000000, 0x30000, 0xC24,
        (0x41002018, 0x60060305), monitor=0x4000, usb=True, returns=b"\x06",
    ),
}  # fmt: skip


class SimulatedSam(SamBus):
    """One chip with its monitor."""

    def __init__(self, kind: SamKind, faults: Faults | None = None) -> None:
        super().__init__(kind, faults)
        self.settings = self.console = LineSettings(115200)
        self.running = False
        self._values: list[int] = [0, 0]
        self._letter = ""
        self.calls_code = False
        self.erases_at_hangup = False
        self.hangs = bool(kind.banks)

    # --- from reset

    def boot(self, boot_selected: bool) -> Program:
        self.clear_registers()
        at = self.kind.monitor
        blank = not self.flash[at : at + 8].strip(b"\xff")
        enters = boot_selected or (not self.boots if self.kind.banks else blank)
        return self._monitor() if enters and not self.faults.no_boot else self._application()

    def hung_up(self, at_s: float, baud: int, dtr: bool) -> bool:
        if self.erases_at_hangup and baud == 1200 and not dtr:
            self.flash[:] = b"\xff" * len(self.flash)
            self.boots = False
            self.run_from(at_s, self._monitor())
            return False
        if not self.kind.usb or baud != 1200 or dtr or not self.running or self.faults.no_boot:
            return False
        self.run_from(at_s, self._monitor())
        return True

    def _application(self) -> Program:
        self.running = True
        started = application.run(self, bytes(self.flash), self.console, self.faults)
        if self.leaving:
            yield Spend(1.0)
            self.restart(started)
            return
        yield from started

    # --- the monitor

    def _monitor(self) -> Program:
        self.running = self.leaving = False
        self.settings = LineSettings(115200)
        self.keeps_early = True
        self._letter, self._values = "", [0, 0]
        binary = False
        yield Spend(0.02)
        while not self._resets:
            value = yield Take()
            if value < 0:
                continue
            sign = chr(value)
            if sign == "#":
                letter, self._letter = self._letter, ""
                if letter in ("N", "T"):
                    binary = letter == "N"
                    self.send(b"\n\r")
                elif letter == "V":
                    self.send(b"v1.9 Mar 3 2025 08:15:00\n\r")
                elif letter:
                    yield from self._carry_out(letter, *self._values)
                if not binary and not self._resets:
                    self.send(b">")
                self._values = [0, 0]
            elif sign in "OoHhWwSRGNTV":
                self._letter, self._values = sign, [0, 0]
            elif sign == ",":
                self._values = [self._values[1], 0]
            elif sign in "0123456789ABCDEFabcdef":
                self._values[1] = self._values[1] << 4 & 0xFFFFFFFF | int(sign, 16)
        self.keeps_early = False
        self.leaving = self.kind.usb
        self.in_reset = False
        self.restart(self._rebooted())

    def _rebooted(self) -> Program:
        """A reset from within: pins are as they are."""
        self._resets = False
        if self.kind.banks and not self.boots:
            yield from self._monitor()
        else:
            yield from self._application()

    def _carry_out(self, letter: str, first: int, second: int) -> Steps:
        """`first` is the value before the comma; without one, all is in `second`."""
        try:
            if letter == "w":
                self.send(self.load(first & ~3 if first else second, 4).to_bytes(4, "little"))
            elif letter in "oh":
                self.send(self.load(first or second, 1 if letter == "o" else 2).to_bytes(4, "little"))
            elif letter in "OHW":
                self.store(first, {"O": 1, "H": 2, "W": 4}[letter], second)
            elif letter == "S":
                yield from self._take_file(first, second)
            elif letter == "R":
                yield from self._send_file(first, second)
            elif letter == "G":
                yield from self._go(first or second)
        except ResetAsked:
            return
        except ThumbFault as fault:
            self.violation(f"{letter}: {fault}")
            yield from application.idle(1e9)  # the processor has stopped

    def _take_file(self, address: int, size: int) -> Steps:
        if self.kind.usb:
            values = yield from self.several(size)
            self._keep(address, bytes(max(0, value) for value in values))
            return
        number, came = 1, 0
        self.send(bytes([_CALL]))
        while True:
            start = yield Take(_CALL_S)
            if start == TIMED_OUT:
                self.send(bytes([_CALL]) if came == 0 else bytes([_NAK]))
            elif start == _EOT:
                self.send(bytes([_ACK]))
                return
            elif start == _CAN:
                return
            elif start == _SOH:
                rest = yield from self.several(4 + _BLOCK, 0.5)
                block = bytes(max(0, value) for value in rest[2:-2])
                good = len(rest) == 4 + _BLOCK and min(rest) >= 0 and rest[0] == rest[1] ^ 0xFF
                if not good or binascii.crc_hqx(block, 0).to_bytes(2, "big") != bytes(rest[-2:]):
                    self.send(bytes([_NAK]))
                    continue
                if rest[0] == number & 0xFF:
                    self._keep(address + came, block[: max(0, size - came)])
                    came, number = came + _BLOCK, number + 1
                self.send(bytes([_ACK]))

    def _keep(self, address: int, data: bytes) -> None:
        for at in range(0, len(data), 4):
            self.store(address + at, 4, int.from_bytes(data[at : at + 4], "little"))

    def _send_file(self, address: int, size: int) -> Steps:
        data = b"".join(self.load(address + at, 4).to_bytes(4, "little") for at in range(0, size, 4))[:size]
        if self.kind.usb:
            if self.hangs and size > 32 and not size & (size - 1):
                yield from application.idle(1e9)
            self.send(data)
            return
        while (yield Take()) != _CALL:
            pass
        for number, at in enumerate(range(0, size, _BLOCK), 1):
            block = data[at : at + _BLOCK].ljust(_BLOCK, b"\x00")
            for _ in range(10):
                head = bytes([_SOH, number & 0xFF, ~number & 0xFF])
                self.send(head + block + binascii.crc_hqx(block, 0).to_bytes(2, "big"))
                answer = yield Take(2.0)
                if answer in (_ACK, _CAN):
                    break
            if answer != _ACK:
                return
        self.send(bytes([_EOT]))
        yield Take(2.0)

    def _go(self, address: int) -> Steps:
        if self.calls_code:  # on the monitor's own stack
            stack, entry = self.kind.ram_at + _STACK_TOP, address
        else:
            stack, entry = self.load(address, 4), self.load(address + 4, 4)
        cpu = ThumbCpu(self)
        self._busy_s, self._looks = 0.0, 0
        try:
            returned = cpu.call(entry, stack, _MOST_INSTRUCTIONS)
        except ResetAsked:
            returned = False
        yield Spend(self._busy_s + cpu.count / HZ)
        if self._resets:
            return
        if not returned:
            self.violation("the program never returned")
            yield from application.idle(1e9)
        self.send(self.kind.returns)


def _program_of(kind: SamKind, text: str, size: int, seed: int) -> Image:
    source = random.Random(seed)
    start = kind.flash_at + kind.monitor
    handlers = [start + 0x100 + 2 * source.randrange(100) | 1 for _ in range(46)]
    vectors = b"".join(word.to_bytes(4, "little") for word in (kind.ram_at + kind.ram_bytes, start + 0xC1, *handlers))
    body = body_of(vectors, text, size, source, 0xFF)
    return Image("frame-lift.hex", (Piece(start, body),), start + 0xC1, "Intel HEX")


def _board(name: str, chip: str, circuit: Circuit) -> BenchBoard:
    return board_of(KINDS[name], SimulatedSam, _program_of, name, circuit, LIFT, chip=chip)


BOARDS = (
    _board("samd21g18", "samd21g18", DtrResetRtsBoot("low")),
    _board("samd51j19", "samd51j19", UsbHangUp()),
    _board("sam3x8e", "sam3x8e", DtrResetRtsBoot("low")),
    _board("sam4s16", "sam4s16c", RtsResetDtrBoot("low")),
)
