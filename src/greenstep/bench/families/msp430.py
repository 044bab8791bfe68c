"""Simulated MSP430 with their bootstrap loaders, from SLAU319 and SLAU550. Boards: msp430g2553, msp430f5438a,
msp430fr5969.

| what | 1xx, 2xx, 4xx, G2 (SLAU319) | 5xx, 6xx, FR (SLAU319, SLAU550) |
|---|---|---|
| entry | two rising edges of TEST while RST is low; parts with JTAG pins of their own: TCK, inverted | the same |
| wrong password | version 2: erases all, unless the word at FFDE is 0; version 1: does not | erases all |
| mass erase | main and information memory, but for a locked segment A; version 1: for a fraction of the time, `needs` of them | main memory, information memory stays; FR: may end in a reset, `resets` |
| version | two bytes of device, and at 10, 11 the loader's; version 1.10 has no such command, `tells` | four bytes, after the password |
| sum | none | CRC-16 over exactly what is asked for |
| load PC | acknowledged; no answer shows that a program runs | the same |
| device number | in the version | at 1A04, read after the password |
| remembered over a reset | nothing but the memory | the same |

Stricter than silicon: the loader is only entered by two rising edges of TEST while RST is low, with TEST high when
RST rises. A wrong password erases the program, as the documents say.
"""  # noqa: E501

from __future__ import annotations

import binascii
import random
from collections.abc import Generator
from functools import reduce
from operator import xor

from greenstep.core.frozen import frozen
from greenstep.core.image import Image, Piece
from greenstep.core.link import Frame, LineSettings

from .. import application
from ..boards import GAUGE, BenchBoard, board_of
from ..chip import DAMAGED, Program, SimulatedChip, Spend, Take, Wish
from ..circuits import Circuit, DtrResetRtsBoot, RtsResetDtrBoot
from ..faults import Faults
from ..samples import body_of

Steps = Generator[Wish, int, None]
_EVEN = Frame(8, "even", 1)
_PASSWORD_AT = 0xFFE0
_RATES = {2: 9600, 3: 19200, 4: 38400, 5: 57600, 6: 115200}


@frozen
class Msp430Kind:
    """Flash from `start` to `end`. `fram`: written without erasing. Times in seconds."""

    title: str
    start: int
    end: int
    device: int
    word_s: float
    erase_s: float
    fram: bool = False


KINDS = {
    "msp430g2553": Msp430Kind("MSP430G2553, 16 KiB", 0xC000, 0x10000, 0x2553, 70e-6, 0.3),
    "msp430f5438a": Msp430Kind("MSP430F5438A, 256 KiB", 0x5C00, 0x45C00, 0x8005, 40e-6, 0.3),
    "msp430fr5969": Msp430Kind("MSP430FR5969, 63 KiB of FRAM", 0x4400, 0x14000, 0x8169, 1e-6, 0.02, True),
}


class SimulatedMsp430(SimulatedChip):
    """One chip. `information` is the flash beside the program's."""

    def __init__(self, kind: Msp430Kind, faults: Faults | None = None) -> None:
        super().__init__()
        self.kind = kind
        self.faults = faults or Faults()
        self.base = kind.start
        self.flash = bytearray(b"\xff") * (kind.end - kind.start)
        self.information = bytearray(b"\xff") * 192 + bytearray(range(64))
        self.settings = self.console = LineSettings(9600 if kind.device == 0x2553 else 115200)
        self.running = False
        self.wrong = 0
        self.version = b"\x02\x02"
        self.tells = True
        self.needs = 1
        self.resets = False
        self.descriptor = kind.device
        self._open = False
        self._edges = 0

    # --- from reset

    def hold_reset(self, at_s: float) -> None:
        super().hold_reset(at_s)
        self._edges = 0

    def boot_pin_moved(self, selected: bool) -> None:
        if self.in_reset and selected:
            self._edges += 1

    def boot(self, boot_selected: bool) -> Program:
        enters = boot_selected and self._edges >= 2
        return self._loader() if enters and not self.faults.no_boot else self._application()

    def _application(self) -> Program:
        self.running = True
        if self.flash[0xFFFE - self.base :][:2] == b"\xff\xff":
            return application.idle(1e9)
        return application.run(self, bytes(self.flash), self.console, self.faults)

    def _loader(self) -> Program:
        self.running = self._open = False
        self.settings = LineSettings(9600, _EVEN)
        yield Spend(0.005)
        yield from self._listen()

    def _listen(self) -> Steps:
        raise NotImplementedError

    # --- what both loaders do

    def _at(self, address: int, size: int) -> int | None:
        """Where in the flash; None if it is not there."""
        at = address - self.base
        return at if at >= 0 and at + size <= len(self.flash) else None

    def _erase(self) -> Steps:
        yield Spend(self.kind.erase_s * self.faults.slow_erase)
        self.flash[:] = b"\xff" * len(self.flash)

    def _unlock(self, password: bytes) -> Generator[Wish, int, bool]:
        at = _PASSWORD_AT - self.base
        if bytes(self.flash[at : at + 32]) == password:
            self._open = True
            return True
        self.wrong += 1
        if self._wrong_erases:
            yield from self._erase()
        return False

    @property
    def _wrong_erases(self) -> bool:
        return True

    def _write(self, address: int, data: bytes) -> Generator[Wish, int, bool]:
        if self._at(address, len(data)) is None or address % 2 or len(data) % 2:
            self.violation(f"write of {len(data)} bytes at {address:05X}")
            return False
        yield Spend(len(data) / 2 * self.kind.word_s)
        self.put(address, data, not self.kind.fram)
        return True


class Simulated1xx(SimulatedMsp430):
    """SLAU319, "1xx, 2xx and 4xx BSL"."""

    def _listen(self) -> Steps:
        while True:
            start = yield Take()
            if start != 0x80:
                continue
            self.send(b"\x90")
            head = yield from self.several(4)
            if head[0] != 0x80 or head[2] != head[3] or head[2] < 4:
                self.send(b"\xa0")
                continue
            rest = yield from self.several(head[2] + 2)
            if DAMAGED in rest or DAMAGED in head:
                self.send(b"\xa0")
                continue
            body, told = bytes([*head, *rest[:-2]]), bytes(rest[-2:])
            if told != bytes([reduce(xor, body[0::2]) ^ 0xFF, reduce(xor, body[1::2]) ^ 0xFF]):
                self.send(b"\xa0")
                continue
            address, length = body[4] | body[5] << 8, body[6] | body[7] << 8
            if (yield from self._command(body[1], address, length, body[8:])):
                return

    @property
    def _wrong_erases(self) -> bool:
        return self.version[0] > 1 and bytes(self.flash[0xFFDE - self.base :][:2]) != b"\x00\x00"

    def _answer(self, good: bool) -> None:
        self.send(b"\x90" if good else b"\xa0")

    def _command(self, code: int, address: int, length: int, data: bytes) -> Generator[Wish, int, bool]:
        if code == 0x1E and self.tells:
            told = self.kind.device.to_bytes(2, "big") + bytes(8) + self.version + bytes(4)
            self._frame(told)
        elif code == 0x18 and length == 0xA506:
            self.needs -= 1
            if self.needs > 0:
                yield Spend(self.kind.erase_s)
            else:
                yield from self._erase()
            self.information[:192] = b"\xff" * 192  # information A is locked
            self._answer(True)
        elif code == 0x10 and len(data) == 32:
            self._answer((yield from self._unlock(data)))
        elif not self._open:
            self._answer(False)
        elif code == 0x16 and length == 0xA504:
            if self._at(address, 1) is None:
                self.violation(f"erase at {address:04X}")
                self._answer(False)
                return False
            yield from self._erase()
            self._answer(True)
        elif code == 0x12 and len(data) == length:
            self._answer((yield from self._write(address, data)))
        elif code == 0x14 and 0 < length <= 250 and not length % 2 and self._at(address, length) is not None:
            at = address - self.base
            self._frame(bytes(self.flash[at : at + length]))
        elif code == 0x1A:
            self._answer(True)
            yield Spend(self.settings.seconds(3))
            self.restart(self._application())
            return True
        else:
            self.violation(f"command {code:02X} at {address:04X}, {length:04X}, {len(data)} bytes")
            self._answer(False)
        return False

    def _frame(self, data: bytes) -> None:
        body = bytes([0x80, 0x00, len(data), len(data)]) + data
        self.send(body + bytes([reduce(xor, body[0::2]) ^ 0xFF, reduce(xor, body[1::2]) ^ 0xFF]))


class Simulated5xx(SimulatedMsp430):
    """SLAU319, "5xx and 6xx BSL", and SLAU550."""

    def _listen(self) -> Steps:
        while True:
            start = yield Take()
            if start != 0x80:
                if start == DAMAGED:
                    self.send(b"\x51")
                continue
            head = yield from self.several(2)
            size = head[0] | head[1] << 8 if min(head) >= 0 else 0
            if not 0 < size <= 260:
                self.send(b"\x54" if size else b"\x53")
                continue
            rest = yield from self.several(size + 2)
            core = bytes(max(0, value) for value in rest[:-2])
            told = bytes(max(0, value) for value in rest[-2:])
            if min(rest) < 0 or binascii.crc_hqx(core, 0xFFFF).to_bytes(2, "little") != told:
                self.send(b"\x52")
                continue
            if (yield from self._command(core[0], core[1:])):
                return

    def _say(self, core: bytes) -> None:
        check = binascii.crc_hqx(core, 0xFFFF).to_bytes(2, "little")
        self.send(b"\x80" + len(core).to_bytes(2, "little") + core + check)

    def _message(self, status: int) -> None:
        self._say(bytes([0x3B, status]))

    def follows(self, baud: int) -> bool:
        return super().follows(baud) and baud in _RATES.values()

    def _command(self, code: int, data: bytes) -> Generator[Wish, int, bool]:
        if code == 0x52 and len(data) == 1:
            if not self.follows(_RATES.get(data[0], 0)):
                self.send(b"\x56")
                return False
            self.send(b"\x00")
            yield Spend(self.settings.seconds(1))
            self.settings = LineSettings(_RATES[data[0]], _EVEN)
            return False
        self.send(b"\x00")
        address = int.from_bytes(data[:3], "little")
        if code == 0x11 and len(data) == 32:
            self._message(0 if (yield from self._unlock(data)) else 5)
        elif code == 0x15 and not data:
            yield from self._erase()
            if self.resets:
                self.restart(self._application())
                return True
            self._message(0)
        elif not self._open:
            self._message(4)
        elif code == 0x19 and not data:
            self._say(b"\x3a\x00\x08\x06\xb4")
        elif code == 0x10 and len(data) > 3:
            self._message(0 if (yield from self._write(address, data[3:])) else 1)
        elif code in (0x16, 0x18) and len(data) == 5:
            size = data[3] | data[4] << 8
            at = self._at(address, size)
            if (code, address, size) == (0x18, 0x1A04, 2):
                self._say(b"\x3a" + self.descriptor.to_bytes(2, "little"))
                return False
            if at is None or (code == 0x18 and size > 255):
                self.violation(f"command {code:02X} of {size} bytes at {address:05X}")
                self._message(7)
                return False
            found = bytes(self.flash[at : at + size])
            if code == 0x16:
                yield Spend(size * 2e-6)
                found = binascii.crc_hqx(found, 0xFFFF).to_bytes(2, "little")
            self._say(b"\x3a" + found)
        elif code == 0x17 and len(data) == 3:
            yield Spend(self.settings.seconds(3))
            self.restart(self._application())
            return True
        else:
            self.violation(f"command {code:02X} with {len(data)} bytes")
            self._message(7)
        return False


def _program(kind: Msp430Kind, text: str, size: int, seed: int) -> Image:
    """Code from the start, and the vectors at the end of the first 64 KiB; as one piece if it reaches there."""
    source = random.Random(seed)
    code = body_of(bytes.fromhex("31400004 B240805A 2001"), text, -(-size // 2) * 2, source, 0xFF)
    vectors = b"".join((kind.start + 2 * source.randrange(200)).to_bytes(2, "little") for _ in range(15))
    vectors += kind.start.to_bytes(2, "little")
    room = _PASSWORD_AT - kind.start
    pieces: tuple[Piece, ...] = (Piece(kind.start, code), Piece(_PASSWORD_AT, vectors))
    if len(code) >= room:
        pieces = (Piece(kind.start, code[:room] + vectors + code[room:]),)
    return Image("rain-gauge.txt", pieces, None, "TI-TXT")


def _board(name: str, circuit: Circuit) -> BenchBoard:
    simulated, baud = (Simulated1xx, 9600) if name == "msp430g2553" else (Simulated5xx, 115200)
    return board_of(KINDS[name], simulated, _program, name, circuit, GAUGE, baud=baud, console=baud)


BOARDS = (
    _board("msp430g2553", DtrResetRtsBoot()),
    _board("msp430f5438a", RtsResetDtrBoot()),
    _board("msp430fr5969", DtrResetRtsBoot()),
)
