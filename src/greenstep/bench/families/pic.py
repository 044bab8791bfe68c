"""Simulated PIC18 boards with a resident bootloader, from Microchip AN851 and AN1310 and the parts' data sheets.
Boards: feeder-pump, pic18f4520, pic18f4620, pic18f46k22, pic18f67j50.

Stricter than silicon: a frame with a wrong checksum is met with silence; a write to space that is not blank, off its
unit or into the loader, and an erase of the loader, are not done and noted.
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Generator
from functools import partial

from greenstep.core.frozen import frozen
from greenstep.core.image import Image
from greenstep.core.link import LineSettings

from .. import application, samples
from ..boards import PUMP, BenchBoard, any_kind, board_of
from ..chip import DAMAGED, Program, Spend, Wish
from ..circuits import CapacitorPulse
from ..crc16 import crc16
from ..faults import Faults
from ..resident import SimulatedResident

Steps = Generator[Wish, int, None]
_STX, _ETX, _DLE = 0x0F, 0x04, 0x05
_MARKS = frozenset({_STX, _ETX})
_WRITE_S, _ERASE_S, _EEPROM_S = 0.002, 0.002, 0.004


@frozen
class PicKind:
    """What distinguishes one board from another. Sizes in bytes."""

    title: str
    flash_bytes: int
    write_unit: int
    erase_unit: int
    eeprom_bytes: int
    loader: tuple[int, int]
    """The loader's span: start, and end (excluded)."""
    echoes_start: bool = True
    rows_of: int = 8


AN851_KINDS = {
    "pic18f4520": PicKind("PIC18F4520, AN851 at the bottom", 32768, 32, 64, 256, (0, 0x200), rows_of=32),
    "pic18f4620": PicKind("PIC18F4620, AN851 at the bottom", 65536, 64, 64, 1024, (0, 0x200), rows_of=64),
}
AN1310_KINDS = {
    "pic18f46k22": PicKind("PIC18F46K22, AN1310 at the end", 65536, 64, 64, 1024, (65536 - 1024, 65536)),
    "pic18f67j50": PicKind(
        "PIC18F67J50, AN1310 at the end", 131072, 64, 1024, 0, (131072 - 1024, 131072), echoes_start=False
    ),
}


class SimulatedPic(SimulatedResident):
    """One board. `flash` and `eeprom` are its content."""

    def __init__(self, kind: PicKind, faults: Faults | None = None) -> None:
        super().__init__(faults, kind.flash_bytes, LineSettings(115200), eeprom_bytes=kind.eeprom_bytes)
        self.kind = kind
        self._measuring = False
        self.measures_again = False
        """Whether anything else than a start of frame has it measure the rate anew, or spoils it until a reset."""
        self._leaves = False
        self.starts = 0

    @abstractmethod
    def stays(self) -> bool:
        """Whether the loader stays active after this reset."""

    @abstractmethod
    def entry(self) -> int:
        """Where the loader goes to start the program, a byte address."""

    @abstractmethod
    def request(self, data: bytes) -> Steps:
        """Act on the data of a frame with a correct checksum."""

    @abstractmethod
    def checked(self, body: bytes) -> bytes | None:
        """The data of a frame; None if its checksum is wrong."""

    def boot(self, boot_selected: bool) -> Program:
        return super().boot(boot_selected) if self.stays() else self.program()

    def brown_out(self, at_s: float) -> None:
        """The reset of a weak supply, with RX not held low."""
        self.break_held = False
        self.hold_reset(at_s)
        self.release_reset(at_s, False)

    def program(self) -> Program:
        self.running = True
        entry = self.entry()
        if self.flash[entry + 1] != 0xEF or self.flash[entry + 3] & 0xF0 != 0xF0:
            return application.idle(1e9)
        return application.run(self, bytes(self.flash), self.console, self.faults)

    def hear_raw(self, value: int, sent: LineSettings) -> bool:
        """Auto-baud on STX."""
        if not self._measuring or not self._listening:
            return False
        if value != _STX and self.measures_again:
            return False
        self._measuring = False
        if value != _STX or not self.follows(sent.baud):
            self.violation(f"auto-baud on {value:02X}")
            self.settings = LineSettings(max(300, sent.baud // 3))
            return False
        self.settings = LineSettings(sent.baud, self.settings.frame)
        return True

    def loader(self) -> Program:
        self.running = self._leaves = False
        self.settings = self.console
        yield Spend(0.002)
        self._measuring = True
        body: bytearray | None = None
        escaped = False
        self.starts = 0
        while not self._leaves:
            values = yield from self.several(1 if not self.starts else 1 << 20, self._silent_s(), _MARKS)
            if not values:
                break
            for value in values:  # none but the last can be a mark
                if value == DAMAGED:
                    body = None
                elif body is not None and escaped:
                    body.append(value)
                    escaped = False
                elif value == _STX:
                    body = self.started(body)
                elif body is None:
                    self._measuring = self.measures_again
                elif value == _DLE:
                    escaped = True
                elif value == _ETX:
                    data = self.checked(bytes(body))
                    body = None
                    if data:
                        yield from self.request(data)
                elif len(body) < 1200:
                    body.append(value)
        self.restart(self.program())

    def _silent_s(self) -> float | None:
        return None if self.starts else self.patience()

    def started(self, body: bytearray | None) -> bytearray:
        """STX was heard; what the frame holds so far."""
        self.starts += 1
        return bytearray()

    def patience(self) -> float | None:
        """How long the loader waits for the first character, in s; None: without limit."""
        return None

    @staticmethod
    def stuffed(body: bytes) -> bytes:
        return b"".join(bytes([_DLE, byte]) if byte in (_STX, _ETX, _DLE) else bytes([byte]) for byte in body)

    def burn(self, address: int, data: bytes) -> Steps:
        """Program write units of the flash, one after the other."""
        low, high = self.kind.loader
        end = address + len(data)
        if address % self.kind.write_unit or end > len(self.flash) or (address < high and low < end):
            self.violation(f"write of {len(data)} bytes at {address:05X}")
            return
        yield Spend(_WRITE_S * -(-len(data) // self.kind.write_unit))
        self.put(address, data)

    def wipe(self, address: int, size: int) -> Steps:
        low, high = self.kind.loader
        if (
            address % self.kind.erase_unit
            or address + size > len(self.flash)
            or (address < high and low < address + size)
        ):
            self.violation(f"erase of {size} bytes at {address:05X}")
            return
        per_unit_s = _ERASE_S if self.kind.erase_unit == 64 else 0.033
        yield Spend(per_unit_s * self.faults.slow_erase * size / self.kind.erase_unit)
        self.flash[address : address + size] = b"\xff" * size


class SimulatedAn851(SimulatedPic):
    """The loader at the bottom, which stays active while the last byte of the EEPROM is FF."""

    listens_s = 1.0

    def __init__(self, kind: PicKind, faults: Faults | None = None) -> None:
        super().__init__(kind, faults)
        self.eeprom[-1] = 0  # there is a program

    def stays(self) -> bool:
        return True

    def patience(self) -> float | None:
        return None if self.eeprom[-1] == 0xFF else self.listens_s

    def brown_out(self, at_s: float) -> None:
        """Only an external reset makes a loader listen that was not told to stay."""
        self.run_from(at_s, self.loader() if self.eeprom[-1] == 0xFF else self.program())

    def entry(self) -> int:
        return 0x200

    def checked(self, body: bytes) -> bytes | None:
        return body[:-1] if len(body) > 2 and not sum(body) & 0xFF else None

    def _answer(self, data: bytes) -> None:
        self.send(bytes([_STX, _STX]) + self.stuffed(data + bytes([-sum(data) & 0xFF])) + bytes([_ETX]))

    def request(self, data: bytes) -> Steps:
        command, length = data[0], data[1]
        address = int.from_bytes(data[2:5], "little") if len(data) >= 5 else 0
        if not length or command > 7:
            self._leaves = True
        elif command == 0:
            self._answer(bytes([0, 2, 0x01, 0x01]))
        elif command == 1 and address + length <= len(self.flash):
            self._answer(data[:5] + bytes(self.flash[address : address + length]))
        elif command == 2:
            body = data[5:]
            if len(body) != length * self.kind.rows_of or len(body) > 128:
                self.violation(f"write of {len(body)} bytes, {length} announced")
                return
            yield from self.burn(address, body)
            self._answer(b"\x02")
        elif command == 3:
            yield from self.wipe(address, 64 * length)
            self._answer(b"\x03")
        elif command == 4 and address + length <= len(self.eeprom):
            self._answer(data[:5] + bytes(self.eeprom[address : address + length]))
        elif command == 5 and address + length <= len(self.eeprom):
            yield Spend(_EEPROM_S * length)
            self.eeprom[address : address + length] = data[5 : 5 + length]
            self._answer(b"\x05")
        else:
            self.violation(f"command {command} at {address:05X}")


class SimulatedAn1310(SimulatedPic):
    """The loader at the end, which stays active if RX was held low, or if there is no program. Reset begins at 0:
    only a jump there leads to it, or nothing but blank words, which are NOPs (data sheets, "Instruction set
    summary")."""

    def __init__(self, kind: PicKind, faults: Faults | None = None) -> None:
        super().__init__(kind, faults)
        k = kind.loader[0] // 2
        self.flash[:4] = bytes([k & 0xFF, 0xEF, k >> 8 & 0xFF, 0xF0 | k >> 16])

    def reached(self) -> int:
        """Where reset leads: the loader's address, or that of the first code that is not on the way to it."""
        at = 0
        while at < self.kind.loader[0] and self.flash[at + 1] & 0xF0 == 0xF0:  # NOP
            at += 2
        word = self.flash[at : at + 4]
        if word[1] == 0xEF and word[3] & 0xF0 == 0xF0:
            return 2 * (word[0] | word[2] << 8 | (word[3] & 0x0F) << 16)
        return at

    def stays(self) -> bool:
        if self.reached() != self.kind.loader[0]:
            self.violation("reset does not reach the loader")
            return False
        return self.break_held or self.flash[self.entry() + 1] == 0xFF

    def entry(self) -> int:
        return self.kind.loader[0] - 4

    def started(self, body: bytearray | None) -> bytearray:
        """An STX is answered by one: each that begins a frame, or only the second of all, after the one that trained
        the auto-baud."""
        self.starts += 1
        if (self.kind.echoes_start and not body) or (not self.kind.echoes_start and self.starts == 2):
            self.send(bytes([_STX]))
        return bytearray()

    def checked(self, body: bytes) -> bytes | None:
        if len(body) < 3 or crc16(body[:-2]) != int.from_bytes(body[-2:], "little"):
            return None
        return body[:-2]

    def _answer(self, data: bytes) -> None:
        frame = self.stuffed(data + crc16(data).to_bytes(2, "little")) + bytes([_ETX])
        self.send(frame if self.kind.echoes_start else bytes([_STX]) + frame)

    def request(self, data: bytes) -> Steps:
        command = data[0]
        address = int.from_bytes(data[1:5], "little") if len(data) >= 5 else 0
        if command == 0:
            start = self.kind.loader[0]
            info = (1024).to_bytes(2, "little") + b"\x05\x01" + b"\xff" + b"\x04" + start.to_bytes(4, "little")
            self._answer(info + b"\x54\x00")
        elif command == 1:
            size = int.from_bytes(data[5:7], "little")
            self._answer(bytes(self.flash[address : address + size]))
        elif command == 3:
            for index in range(data[5]):
                yield from self.wipe(address - index * self.kind.erase_unit, self.kind.erase_unit)
            self._answer(b"\x03")
        elif command == 4:
            body = data[6:]
            if len(body) != data[5] * self.kind.write_unit or len(body) > 256:
                self.violation(f"write of {len(body)} bytes in {data[5]} blocks")
                return
            yield from self.burn(address, body)
            self._answer(b"\x04")
        elif command == 5:
            size = int.from_bytes(data[5:7], "little")
            self._answer(bytes(self.eeprom[address : address + size]))
        elif command == 6:
            yield Spend(_EEPROM_S * len(data[7:]))
            self.eeprom[address : address + len(data[7:])] = data[7:]
            self._answer(b"\x06")
        elif command == 8:
            self._leaves = True
        else:
            self.violation(f"command {command}")


def _an851_program(kind: PicKind, text: str, size: int, seed: int) -> Image:
    return samples.pic_image(text, size, seed, kind.loader[1])


def _an851_board(chip: str) -> BenchBoard:
    circuit = CapacitorPulse("dtr")
    return board_of(
        AN851_KINDS[chip], SimulatedAn851, _an851_program, chip, circuit, PUMP,
        dialect="pic-an851", held=samples.code_of,
    )  # fmt: skip


def _an1310_board(chip: str, name: str = "") -> BenchBoard:
    kind = AN1310_KINDS[chip]
    held = partial(samples.as_an1310_holds, loader=kind.loader[0])
    program = any_kind(samples.pic_image)
    return board_of(kind, SimulatedAn1310, program, name or chip, CapacitorPulse("dtr"), PUMP, chip=chip, held=held)


BOARDS = (
    _an1310_board("pic18f46k22", "feeder-pump"),
    *map(_an851_board, AN851_KINDS),
    *map(_an1310_board, AN1310_KINDS),
)
