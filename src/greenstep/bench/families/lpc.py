"""Simulated LPC parts in their ROM's in-system programming, from NXP's user manuals (UM10360, UM10601, UM11029).
Boards: entrance-counter, lpc1769, lpc1114, lpc812, lpc845, lpc4357.

Stricter than silicon: a copy or erase of a sector that was not prepared, a copy to space that is not blank, a count
that the part does not accept and RAM that ISP itself uses are refused with the manual's code and noted.
"""

from __future__ import annotations

import zlib
from collections.abc import Generator
from typing import ClassVar

from greenstep.core.frozen import frozen
from greenstep.core.image import Image
from greenstep.core.link import LineSettings

from .. import samples
from ..boards import COUNTER, BenchBoard, board_of
from ..chip import DAMAGED, TIMED_OUT, Program, Spend, Take, Wish
from ..circuits import DtrResetRtsBoot
from ..faults import Faults
from ..rom import SimulatedRom

Steps = Generator[Wish, int, None]
Number = Generator[Wish, int, int]


@frozen
class LpcKind:
    """What distinguishes one part from another. Sizes in bytes; `sectors` are their sizes in order."""

    title: str
    ident: int
    sectors: tuple[int, ...]
    ram_bytes: int
    counts: tuple[int, ...]
    uu: bool
    shadow: int
    used_ram: int
    crc: bool = False
    ok_after_data: bool = False
    base: int = 0
    """Where the flash begins; elsewhere than at 0, P and E name a bank, and J tells two words."""
    second_id: int = 0

    @property
    def flash_bytes(self) -> int:
        return sum(self.sectors)


_LARGE = (256, 512, 1024, 4096)
KINDS = {
    "lpc1769": LpcKind("LPC1769, 512 KiB", 0x26113F37, (4096,) * 16 + (32768,) * 14, 32768, _LARGE, True, 64, 0x400),
    "lpc1114": LpcKind("LPC1114, 32 KiB", 0x2540102B, (4096,) * 8, 8192, _LARGE, True, 512, 0x400),
    "lpc812": LpcKind(
        "LPC812, 16 KiB, plain data", 0x8122, (1024,) * 16, 4096, (64, 128, 256, 512, 1024), False, 512, 0x400
    ),
    "lpc845": LpcKind(
        "LPC845, 64 KiB, plain data and CRC", 0x8451, (1024,) * 64, 16384, (64, 128, 256, 512, 1024), False, 512,
        0x400, True, True,
    ),
    "lpc4357": LpcKind(
        "LPC4357, bank A, 512 KiB", 0xA001C830, (8192,) * 8 + (65536,) * 7, 32768, (512, 1024, 4096), True, 0, 0x400,
        base=0x1A000000,
    ),
}  # fmt: skip
RAM = 0x10000000
_LINE_ENDS = frozenset({10})
_RATES = (9600, 19200, 38400, 57600, 115200, 230400)
_ERASE_S, _COPY_S_PER_256 = 0.1, 0.001
_CRP_AT, _CRP1 = 0x2FC, (0x12345678).to_bytes(4, "little")
_CRP = {_CRP1, (0x87654321).to_bytes(4, "little"), (0x43218765).to_bytes(4, "little")}


class SimulatedLpc(SimulatedRom):
    """One chip. `flash` is its content; the ROM hides its first bytes while it runs."""

    measured_on = ord("?")
    top_baud = 230_400
    lasting_marks: ClassVar[tuple[str, ...]] = ("was_locked",)

    def __init__(self, kind: LpcKind, faults: Faults | None = None) -> None:
        super().__init__(kind.flash_bytes, faults)
        self.kind = kind
        self.base = kind.base
        self.ram = bytearray(kind.ram_bytes)
        self._echo = True
        self._unlocked = False
        self._prepared: set[int] = set()
        self._locked = self.was_locked = False

    # --- from reset

    def boot(self, boot_selected: bool) -> Program:
        """The ROM runs the program if its vectors sum to zero and the pin allows it, else its own commands."""
        if self.faults.locked and not self.was_locked:
            self.flash[_CRP_AT : _CRP_AT + 4] = _CRP1
            self.was_locked = True
        self._locked = bytes(self.flash[_CRP_AT : _CRP_AT + 4]) in _CRP
        summed = sum(int.from_bytes(self.flash[at : at + 4], "little") for at in range(0, 32, 4)) & 0xFFFFFFFF
        self.running = not boot_selected and summed == 0
        return self.application() if self.running else self._loader()

    def _loader(self) -> Program:
        self._echo, self._unlocked, self._prepared = True, False, set()
        self.settings = self.console
        yield Spend(0.003)
        while True:
            self._measuring = True
            if (yield Take()) != ord("?"):
                while True:  # the rate is measured wrong: no response until reset
                    yield Take()
            self.send(b"Synchronized\r\n")
            if (yield from self._line()) != "Synchronized":
                continue
            self.send(b"OK\r\n")
            if not (yield from self._line()).isdecimal():
                continue
            self.send(b"OK\r\n")
            while True:
                yield from self._command((yield from self._line()))

    def _line(self, longest: int = 100) -> Generator[Wish, int, str]:
        """A line, echoed as it comes if echo is on."""
        if not self._echo:
            values = yield from self.several(1 << 20, stops=_LINE_ENDS)
            return "".join(chr(0x7F if value == DAMAGED else value) for value in values[:-1])[:longest].strip()
        text = ""
        while True:
            value = yield Take()
            if value == DAMAGED:
                value = 0x7F
            if self._echo:
                self.send(bytes([value]))
            if value == 10:
                return text.strip()
            if len(text) < longest:
                text += chr(value)

    def _code(self, code: int) -> None:
        self.send(b"%d\r\n" % code)

    # --- commands

    def _command(self, line: str) -> Steps:
        words = line.split(" ")
        name, values = words[0], words[1:]
        if name in ("G",) and len(values) == 2:
            values = values[:1]
        if not all(value.isdecimal() for value in values):
            self._code(12 if name in "UBAWRPCGEIMS" and name else 1)
            return
        numbers = [int(value) for value in values]
        wanted = {"U": 1, "B": 2, "A": 1, "W": 2, "R": 2, "P": 2, "C": 3, "G": 1, "E": 2, "I": 2, "J": 0, "K": 0,
                  "M": 3, "N": 0, "S": 2}  # fmt: skip
        if name not in wanted or (name == "S" and not self.kind.crc):
            self._code(1)
            return
        if self.kind.base and name in ("P", "E"):
            if len(numbers) != 3 or numbers[2]:
                self._code(12 if len(numbers) != 3 else 7)
                return
            numbers = numbers[:2]
        if len(numbers) != wanted[name]:
            self._code(12)
            return
        if self._locked and name in ("R", "M", "S", "G", "W"):
            self._code(19)
            return
        yield from getattr(self, f"_do_{name.lower()}")(*numbers)

    def _do_u(self, code: int) -> Steps:
        self._unlocked = code == 23130
        self._code(0 if self._unlocked else 16)
        return
        yield

    def follows(self, baud: int) -> bool:
        return super().follows(baud) and baud <= _RATES[-1]

    def _do_b(self, rate: int, stop: int) -> Steps:
        if rate not in _RATES or not self.follows(rate):
            self._code(17)
            return
        self._code(0)
        yield Spend(self.settings.seconds(4))
        self.settings = LineSettings(rate)

    def _do_a(self, on: int) -> Steps:
        self._code(0)
        self._echo = bool(on)
        return
        yield

    def _do_j(self) -> Steps:
        self._code(0)
        self.send(b"%d\r\n" % self.kind.ident)
        if self.kind.base:
            self.send(b"%d\r\n" % self.kind.second_id)
        return
        yield

    def _do_k(self) -> Steps:
        self.send(b"0\r\n2\r\n4\r\n")
        return
        yield

    def _do_n(self) -> Steps:
        self.send(b"0\r\n1193046\r\n2271560481\r\n305419896\r\n%d\r\n" % (2596069104 + self.copy))
        return
        yield

    def _do_i(self, first: int, last: int) -> Steps:
        if not first <= last < len(self.kind.sectors):
            self._code(7)
            return
        low, high = self._span(first, last)
        low = max(low, self.kind.shadow)
        self._code(8 if self.flash[low:high].strip(b"\xff") else 0)
        return
        yield

    def _do_g(self, address: int) -> Steps:
        if not self._unlocked:
            self._code(15)
            return
        self._code(0)
        yield Spend(0.001)
        self.restart(self.application())

    def _span(self, first: int, last: int) -> tuple[int, int]:
        starts = [sum(self.kind.sectors[:n]) for n in range(len(self.kind.sectors) + 1)]
        return starts[first], starts[last + 1]

    def _do_p(self, first: int, last: int) -> Steps:
        if not self._unlocked:
            self._code(15)
            return
        if not first <= last < len(self.kind.sectors):
            self._code(7)
            return
        self._prepared |= set(range(first, last + 1))
        self._code(0)
        return
        yield

    def _do_e(self, first: int, last: int) -> Steps:
        if not first <= last < len(self.kind.sectors):
            self._code(7)
            return
        if self._locked and first == 0 and last < len(self.kind.sectors) - 1:
            self._code(19)  # sector 0 goes only with all others
            return
        if not set(range(first, last + 1)) <= self._prepared:
            self.violation(f"erase of sectors {first}-{last} that were not prepared")
            self._code(9)
            return
        self._prepared = set()
        yield Spend(_ERASE_S * self.faults.slow_erase)
        low, high = self._span(first, last)
        self.flash[low:high] = b"\xff" * (high - low)
        self._code(0)

    def _do_c(self, address: int, source: int, size: int) -> Steps:
        unit, address = min(self.kind.counts), address - self.kind.base
        if size not in self.kind.counts:
            self._code(6)
        elif address % unit or not 0 <= address <= self.kind.flash_bytes - size:
            self._code(3)
        elif not self._in_ram(source, size):
            self._code(2)
        else:
            touched = {
                n
                for n in range(len(self.kind.sectors))
                if self._span(n, n)[0] < address + size and address < self._span(n, n)[1]
            }
            if not touched <= self._prepared:
                self.violation(f"copy to {address:X}, which was not prepared")
                self._code(9)
                return
            self._prepared -= touched
            yield Spend(size / 256 * _COPY_S_PER_256)
            self.put(self.base + address, bytes(self.ram[source - RAM : source - RAM + size]))
            self._code(0)

    def _in_ram(self, address: int, size: int) -> bool:
        inside = address >= RAM and address + size <= RAM + self.kind.ram_bytes
        if inside and (address < RAM + self.kind.used_ram or address + size > RAM + self.kind.ram_bytes - 32):
            self.violation(f"RAM {address:X}, which ISP uses")
        return inside

    def _seen(self, address: int, size: int) -> bytes | None:
        """What a read shows: the ROM's own bytes at the bottom of the flash."""
        at = address - self.kind.base
        if 0 <= at <= self.kind.flash_bytes - size:
            visible = bytes((17 * n + 3) & 0xFF for n in range(self.kind.shadow)) + bytes(
                self.flash[self.kind.shadow :]
            )
            return visible[at : at + size]
        if address >= RAM and address + size <= RAM + self.kind.ram_bytes:
            return bytes(self.ram[address - RAM : address - RAM + size])
        return None

    def _do_m(self, one: int, other: int, size: int) -> Steps:
        first, second = self._seen(one, size), self._seen(other, size)
        if first is None or second is None or size % 4:
            self._code(2 if first is None else 3 if second is None else 6)
            return
        yield Spend(size * 1e-7)
        if first == second:
            self._code(0)
        else:
            self._code(10)
            self.send(b"%d\r\n" % next(n for n in range(size) if first[n] != second[n]))

    def _do_s(self, address: int, size: int) -> Steps:
        data = self._seen(address, size)
        if data is None or size % 4:
            self._code(2 if data is None else 6)
            return
        yield Spend(size * 2e-7)
        self._code(0)
        self.send(b"%d\r\n" % zlib.crc32(data))

    # --- data

    def _do_w(self, address: int, size: int) -> Steps:
        if address % 4 or not self._in_ram(address, size):
            self._code(3 if not address % 4 else 13)
            return
        if size % 4:
            self._code(6)
            return
        self._code(0)
        at = address - RAM
        if not self.kind.uu:
            values = yield from self.several(size)
            self.ram[at : at + size] = bytes(max(0, value) for value in values)
            if self.kind.ok_after_data:
                self.send(b"OK\r\n")
            return
        done = 0
        while done < size:
            group, wrong = bytearray(), False
            while len(group) < min(size - done, 900):
                line = yield from self._line()
                data = self._decoded(line)
                if data is None:
                    wrong = True
                    data = bytes(min(45, size - done - len(group)))
                group += data
            summed = yield from self._line()
            if wrong or summed != str(sum(group)):
                self.send(b"RESEND\r\n")
                continue
            self.ram[at + done : at + done + len(group)] = group
            done += len(group)
            self.send(b"OK\r\n")

    @staticmethod
    def _decoded(line: str) -> bytes | None:
        """A UU line; None if it is none."""
        values = [(ord(letter) - 32) & 63 for letter in line]
        if (
            not values
            or any(not 32 <= ord(letter) <= 96 for letter in line)
            or len(line) != 1 + (values[0] + 2) // 3 * 4
        ):
            return None
        data = bytearray()
        for n in range(1, len(values), 4):
            a, b, c, d = values[n : n + 4]
            data += bytes([a << 2 & 0xFF | b >> 4, b << 4 & 0xFF | c >> 2, c << 6 & 0xFF | d])
        return bytes(data[: values[0]])

    @staticmethod
    def _encoded(data: bytes) -> bytes:
        padded = data + bytes(-len(data) % 3)
        text = bytearray([32 + len(data)])
        for n in range(0, len(padded), 3):
            word = int.from_bytes(padded[n : n + 3], "big")
            text += bytes((word >> shift & 63) + 32 if word >> shift & 63 else 96 for shift in (18, 12, 6, 0))
        return bytes(text) + b"\r\n"

    def _do_r(self, address: int, size: int) -> Steps:
        data = self._seen(address, size)
        if data is None or size % 4 or address % 4:
            self._code(13 if address % 4 else 6 if size % 4 else 14)
            return
        self._code(0)
        if not self.kind.uu:
            self.send(data + (b"OK\r\n" if self.kind.ok_after_data else b""))
            return
        for at in range(0, size, 900):
            group = data[at : at + 900]
            for _ in range(4):
                lines = b"".join(self._encoded(group[n : n + 45]) for n in range(0, len(group), 45))
                self.send(lines + b"%d\r\n" % sum(group))
                answer = yield from self._answer()
                if answer != "RESEND":
                    break
            if answer != "OK":
                return

    def _answer(self) -> Generator[Wish, int, str]:
        """The host's OK or RESEND; after a while it is given up."""
        text = ""
        while not text.endswith("\n"):
            value = yield Take(2.0)
            if value == TIMED_OUT:
                return ""
            text += chr(max(value, 0))
        return text.strip()


def _program(kind: LpcKind, text: str, size: int, seed: int) -> Image:
    return samples.lpc_image(text, size, kind.ram_bytes, seed, kind.base)


def _board(chip: str, name: str = "") -> BenchBoard:
    circuit = DtrResetRtsBoot("low")
    return board_of(
        KINDS[chip], SimulatedLpc, _program, name or chip, circuit, COUNTER, chip=chip, held=samples.with_sum
    )


BOARDS = (_board("lpc1769", "entrance-counter"), *map(_board, KINDS))
