"""Simulated STM32s in their ROM bootloader, from ST AN3155 (protocol), AN2606 (entry) and the data sheets' times.
Boards: brood-probe, stm32f072, stm32f103, stm32f407, stm32l053, stm32g071, stm32c031, stm32g0b1, stm32l152.

Stricter than silicon: a damaged character, a wrong complement or checksum is refused; writing to space that is not
erased, misaligned or past the end is refused and noted; a character that comes while the chip is busy is lost and
noted.
"""

from __future__ import annotations

from collections.abc import Generator
from functools import reduce
from operator import xor
from typing import ClassVar

from greenstep.core.frozen import frozen
from greenstep.core.image import Image
from greenstep.core.link import Frame, LineSettings

from .. import application, samples
from ..boards import PROBE, BenchBoard, board_of
from ..chip import DAMAGED, Program, SimulatedChip, Spend, Take, Wish
from ..circuits import DtrResetRtsBoot, RtsResetDtrBoot
from ..faults import Faults

_EVEN = Frame(8, "even", 1)
Steps = Generator[Wish, int, bool]


@frozen
class Stm32Kind:
    """What distinguishes one kind from another. Sizes in bytes, times in seconds."""

    title: str
    ident: int
    loader: int
    flash_bytes: int
    sectors: tuple[int, ...]
    erase_s: dict[int, float]
    program_s: float
    program_unit: int
    align: int
    size_register: int
    unique_register: int
    ram_bytes: int
    extended_erase: bool = True
    erased: int = 0xFF
    checksum: bool = False
    unique_words: tuple[int, ...] = (0, 4, 8)
    """Addresses of the words of the unique id."""
    mass_erase: bool = True
    boot_select: bool = False
    """Whether an option makes the chip ignore the boot pin."""
    second_bank: tuple[int, int] = (0, 0)
    """The index of its first page, and that page's number."""
    size_code: int | None = None


KINDS = {
    "stm32f072": Stm32Kind(
        "STM32F072, 128 KiB", 0x448, 0x31, 131072, (2048,) * 64, {2048: 0.03}, 53.5e-6, 2, 4,
        0x1FFFF7CC, 0x1FFFF7AC, 16384,
    ),
    "stm32f103": Stm32Kind(
        "STM32F103, 64 KiB", 0x410, 0x22, 65536, (1024,) * 64, {1024: 0.02}, 52.5e-6, 2, 4,
        0x1FFFF7E0, 0x1FFFF7E8, 20480, extended_erase=False,
    ),
    "stm32f407": Stm32Kind(
        "STM32F407, 1 MiB", 0x413, 0x31, 1 << 20, (16384,) * 4 + (65536,) + (131072,) * 7,
        {16384: 0.25, 65536: 0.55, 131072: 1.0}, 16e-6, 4, 4, 0x1FFF7A22, 0x1FFF7A10, 131072,
    ),
    "stm32l053": Stm32Kind(
        "STM32L053, 64 KiB, erased to 00", 0x417, 0x31, 65536, (128,) * 512, {128: 0.0032}, 0.0032, 4, 4,
        0x1FF8007C, 0x1FF80050, 8192, erased=0x00, unique_words=(0, 4, 0x14), mass_erase=False,
    ),
    "stm32g071": Stm32Kind(
        "STM32G071, 128 KiB, written by 8 bytes", 0x460, 0x31, 131072, (2048,) * 64, {2048: 0.022}, 85e-6, 8, 8,
        0x1FFF75E0, 0x1FFF7590, 36864, boot_select=True,
    ),
    "stm32c031": Stm32Kind(
        "STM32C031, 32 KiB, with a checksum of its own", 0x453, 0x33, 32768, (2048,) * 16, {2048: 0.022}, 85e-6,
        8, 8, 0x1FFF75A0, 0x1FFF7550, 12288, checksum=True,
        boot_select=True,
    ),
    "stm32g0b1": Stm32Kind(
        "STM32G0B1, 512 KiB in two banks", 0x467, 0x31, 524288, (2048,) * 256, {2048: 0.022}, 85e-6, 8, 8,
        0x1FFF75E0, 0x1FFF7590, 147456, boot_select=True, second_bank=(128, 256),
    ),
    "stm32l152": Stm32Kind(
        "STM32L152, 384 KiB, erased to 00", 0x436, 0x31, 393216, (256,) * 1536, {256: 0.0033}, 0.0033, 4, 4,
        0x1FF800CC, 0x1FF800D0, 49152, erased=0x00, unique_words=(0, 4, 0x14), mass_erase=False, size_code=0,
    ),
}  # fmt: skip

FLASH, RAM = 0x08000000, 0x20000000
_ACK, _NACK = b"\x79", b"\x1f"


class SimulatedStm32(SimulatedChip):
    """One chip. `flash` is its content; `application` are the settings of the program in it."""

    top_baud = 460_800
    base = FLASH
    lasting_marks: ClassVar[tuple[str, ...]] = ("locked", "protected")

    def __init__(self, kind: Stm32Kind, faults: Faults | None = None, console: LineSettings | None = None) -> None:
        super().__init__()
        self.kind = kind
        self.faults = faults or Faults()
        self.flash = bytearray([kind.erased]) * kind.flash_bytes
        self.ram = bytearray(kind.ram_bytes)
        self.console = console or LineSettings(115200)
        self.settings = self.console
        self.locked = self.faults.locked
        self.protected = set(self.faults.write_protected)
        self.running = False
        self._auto_baud = False

    # --- from reset

    def boot(self, boot_selected: bool) -> Program:
        if self.faults.boot_ignored and self.kind.boot_select:  # as shipped: the loader runs while the flash is empty
            boot_selected = self._word(FLASH) == int.from_bytes([self.kind.erased] * 4, "little")
        self.running = not boot_selected
        if not boot_selected:
            self._auto_baud = False
            return self._application(FLASH)
        return self._loader()

    def _application(self, address: int) -> Program:
        self.running = True
        stack, reset = (self._word(address + offset) for offset in (0, 4))
        if not (RAM < stack <= RAM + self.kind.ram_bytes and reset & 1 and self._in_flash(reset & ~1, 2)):
            return application.idle(1e9)
        return application.run(self, bytes(self.flash), self.console, self.faults)

    def _word(self, address: int) -> int:
        return int.from_bytes(self.flash[address - FLASH : address - FLASH + 4], "little")

    def hear_raw(self, value: int, sent: LineSettings) -> bool:
        """Auto-baud: the pulse of 7F is measured (AN3155, section 2). Another character measures wrong."""
        if not self._auto_baud or not self._listening:
            return False
        self._auto_baud = False
        measured = sent.baud if value == 0x7F and self.follows(sent.baud) else max(300, sent.baud // 3)
        if measured != sent.baud:
            self.violation(f"auto-baud on {value:02X} at {sent}")
        self.settings = LineSettings(measured, _EVEN)
        return value == 0x7F and measured == sent.baud

    def _loader(self) -> Program:
        self._auto_baud = True
        yield Spend(0.002)  # the ROM's own start-up
        value = yield Take()
        if value != 0x7F:
            while True:  # the rate is measured wrong: no response until reset
                yield Take()
        self.send(_ACK)
        yield from self._commands()

    def _commands(self) -> Program:
        handlers = {
            0x00: self._get,
            0x01: self._get_version,
            0x02: self._get_id,
            0x11: self._read,
            0x21: self._go,
            0x31: self._write,
            0x63: self._write_protect,
            0x73: self._write_unprotect,
            0x82: self._readout_protect,
            0x92: self._readout_unprotect,
        }
        handlers[0x44 if self.kind.extended_erase else 0x43] = (
            self._extended_erase if self.kind.extended_erase else self._erase
        )
        if self.kind.checksum:
            handlers[0xA1] = self._checksum
        self.codes = bytes(sorted(handlers))
        while True:
            code = yield Take()
            complement = yield Take()
            forbidden = self.locked and code in (0x11, 0x21, 0x31, 0x43, 0x44, 0x63, 0xA1)
            if code == DAMAGED or complement != code ^ 0xFF or code not in handlers or forbidden:
                self.send(_NACK * (2 if forbidden else 1))  # AN2606, "known limitations"
                continue
            self.send(_ACK)
            ended = yield from handlers[code]()
            if ended:
                return

    # --- questions

    def _get(self) -> Steps:
        self.send(bytes([len(self.codes), self.kind.loader]) + self.codes + _ACK)
        return False
        yield

    def _get_version(self) -> Steps:
        self.send(bytes([self.kind.loader, 0, 0]) + _ACK)
        return False
        yield

    def _get_id(self) -> Steps:
        self.send(b"\x01" + self.kind.ident.to_bytes(2, "big") + _ACK)
        return False
        yield

    # --- frames

    def _frame(self, size: int) -> Generator[Wish, int, bytes | None]:
        """That many characters and their XOR; None if one is damaged or the XOR is wrong."""
        return (yield from self._rest_of_frame([], size))

    def _rest_of_frame(self, head: list[int], size: int) -> Generator[Wish, int, bytes | None]:
        """That many characters after a frame's head, and the XOR over all; None if one is damaged or it is wrong."""
        if DAMAGED in head:
            return None
        values = yield from self.several(size + 1)
        if DAMAGED in values or reduce(xor, head + values):
            return None
        return bytes(values[:-1])

    def _address(self) -> Generator[Wish, int, int | None]:
        frame = yield from self._frame(4)
        return None if frame is None else int.from_bytes(frame, "big")

    def _in_flash(self, address: int, size: int) -> bool:
        return address >= FLASH and address + size <= FLASH + self.kind.flash_bytes

    def _in_ram(self, address: int, size: int) -> bool:
        return address >= RAM and address + size <= RAM + self.kind.ram_bytes

    def _memory(self, address: int, size: int) -> bytes | None:
        """The bytes there; None if there is no memory."""
        if self._in_flash(address, size):
            return bytes(self.flash[address - FLASH : address - FLASH + size])
        if self._in_ram(address, size):
            return bytes(self.ram[address - RAM : address - RAM + size])
        told = self.kind.flash_bytes // 1024 if self.kind.size_code is None else self.kind.size_code
        size_word = (told if self.tells_size else 0xFFFF).to_bytes(2, "little")
        number = bytes([*range(0x30, 0x3B), 0x3B + self.copy & 0xFF])
        words = bytearray(max(self.kind.unique_words) + 4)
        for index, at in enumerate(self.kind.unique_words):
            words[at : at + 4] = number[4 * index : 4 * index + 4]
        option = 1 << 21 | (self.faults.boot_ignored and self.kind.boot_select) << 24
        for register, content in (
            (self.kind.size_register, size_word),
            (self.kind.size_register & ~3, (bytes(self.kind.size_register & 3) + size_word).ljust(4, b"\xff")),
            (self.kind.unique_register, bytes(words)),
            (0x1FFF7800, option.to_bytes(4, "little")),
        ):
            if register <= address and address + size <= register + len(content):
                return content[address - register :][:size]
        return None

    # --- memory

    def _read(self) -> Steps:
        address = yield from self._address()
        if address is None or self._memory(address, 1) is None:
            self.send(_NACK)
            return False
        self.send(_ACK)
        size = yield Take()
        complement = yield Take()
        if size == DAMAGED or complement != size ^ 0xFF:
            self.send(_NACK)
            return False
        content = self._memory(address, size + 1)
        if content is None:
            self.violation(f"read of {size + 1} bytes at {address:08X} leaves the memory")
            self.send(_NACK)
            return False
        self.send(_ACK + content)
        return False

    def _write(self) -> Steps:
        address = yield from self._address()
        if address is None:
            self.send(_NACK)
            return False
        in_ram = self._in_ram(address, 1)
        if address % (4 if in_ram else self.kind.align) or not (in_ram or self._in_flash(address, 1)):
            self.violation(f"write to {address:08X}")
            self.send(_NACK)
            return False
        self.send(_ACK)
        size = yield Take()
        data = yield from self._rest_of_frame([size], size + 1)
        if data is None:
            self.send(_NACK)
            return False
        if in_ram:
            return self._write_ram(address, data)
        if len(data) % self.kind.align or not self._in_flash(address, len(data)):
            self.violation(f"write of {len(data)} bytes at {address:08X}")
            self.send(_NACK)
            return False
        if self._sector_of(address) in self.protected:  # acknowledged, but without effect
            self.send(_ACK)
            return False
        yield Spend(-(-len(data) // self.kind.program_unit) * self.kind.program_s)
        self.send(_ACK if self._burn(address, data) else _NACK)
        return False

    def _write_ram(self, address: int, data: bytes) -> bool:
        """AN2606: the loader's own variables are at the beginning of the RAM, of which each part uses another share;
        here it is the first half, or all of a small one. Returns True if the loader is lost by it."""
        own = max(6144, self.kind.ram_bytes // 2)
        if address < RAM + own or not self._in_ram(address, len(data)):
            self.violation(f"write to the loader's RAM at {address:08X}")
            return True
        self.ram[address - RAM : address - RAM + len(data)] = data
        self.send(_ACK)
        return False

    def _burn(self, address: int, data: bytes) -> bool:
        """Programming only moves bits away from the erased value. Returns False if something was not erased."""
        if self.faults.dead_write:
            return True
        at = address - FLASH
        old = self.flash[at : at + len(data)]
        clean = all(a in (self.kind.erased, b) for a, b in zip(old, data, strict=True))
        if not clean:
            self.violation(f"write to {address:08X}, which is not erased")
        both = (a & b if self.kind.erased else a | b for a, b in zip(old, data, strict=True))
        self.flash[at : at + len(data)] = bytes(both)
        for worn in self.faults.worn:
            if address <= worn < address + len(data):
                self.flash[worn - FLASH] ^= 0x10
        return clean

    # --- erasing

    def _sector_of(self, address: int) -> int:
        at = FLASH
        for number, size in enumerate(self.kind.sectors):
            at += size
            if address < at:
                return number
        return -1

    def _erase(self) -> Steps:
        size = yield Take()
        if size == 0xFF:
            if (yield Take()) != 0:
                self.send(_NACK)
                return False
            return (yield from self._erase_sectors(list(range(len(self.kind.sectors)))))
        numbers = yield from self._rest_of_frame([size], size + 1)
        if numbers is None:
            self.send(_NACK)
            return False
        return (yield from self._erase_sectors(list(numbers)))

    def _extended_erase(self) -> Steps:
        head = [(yield Take()), (yield Take())]
        if DAMAGED in head:
            self.send(_NACK)
            return False
        size = head[0] << 8 | head[1]
        if size >= 0xFFF0:
            checksum = yield Take()
            if size != 0xFFFF or checksum != 0 or not self.kind.mass_erase:
                self.send(_NACK)
                return False
            return (yield from self._erase_sectors(list(range(len(self.kind.sectors)))))
        body = yield from self._rest_of_frame(head, 2 * (size + 1))
        if body is None:
            self.send(_NACK)
            return False
        numbers = [body[i] << 8 | body[i + 1] for i in range(0, len(body), 2)]
        return (yield from self._erase_sectors(numbers))

    def _erase_sectors(self, numbers: list[int]) -> Steps:
        numbers = [self._index_of(number) for number in numbers]
        if any(number >= len(self.kind.sectors) for number in numbers):
            self.violation(f"erase of sectors {numbers}")
            self.send(_NACK)
            return False
        numbers = [number for number in numbers if number not in self.protected]  # those it passes over
        sizes = [self.kind.sectors[number] for number in numbers]
        yield Spend(sum(self.kind.erase_s[size] for size in sizes) * self.faults.slow_erase)
        for number in numbers:
            at = sum(self.kind.sectors[:number])
            size = self.kind.sectors[number]
            self.flash[at : at + size] = bytes([self.kind.erased]) * size
        self.send(_ACK)
        return False

    def _index_of(self, number: int) -> int:
        """Which page the host means."""
        first, counted = self.kind.second_bank
        if not counted or number < first:
            return number
        return number - counted + first if number >= counted else len(self.kind.sectors)

    # --- protection: each ends in a reset of the chip

    def _reset(self) -> bool:
        self.restart(self._loader())
        return True

    def _write_protect(self) -> Steps:
        size = yield Take()
        numbers = yield from self._rest_of_frame([size], size + 1)
        if numbers is None:
            self.send(_NACK)
            return False
        self.protected = set(numbers)
        self.send(_ACK)
        return self._reset()

    def _write_unprotect(self) -> Steps:
        yield Spend(0.02)
        self.protected.clear()
        self.send(_ACK)
        return self._reset()

    def _readout_protect(self) -> Steps:
        yield Spend(0.02)
        self.locked = True
        self.send(_ACK)
        return self._reset()

    def _readout_unprotect(self) -> Steps:
        yield Spend(sum(self.kind.erase_s[size] for size in self.kind.sectors))
        self.flash[:] = bytes([self.kind.erased]) * len(self.flash)
        self.locked = self.faults.lock_stays
        self.send(_ACK)
        return self._reset()

    # --- the rest

    def _go(self) -> Steps:
        address = yield from self._address()
        if address is None or not self._in_flash(address, 8):
            self.send(_NACK)
            return False
        self.send(_ACK)
        yield Spend(11 / self.settings.baud)
        self.restart(self._application(address))
        return True

    def _checksum(self) -> Steps:
        arguments = []
        for _ in range(4):
            argument = yield from self._address()
            if argument is None:
                self.send(_NACK)
                return False
            arguments.append(argument)
            self.send(_ACK)
        address, words, polynomial, crc = arguments
        content = self._memory(address, words * 4)
        if content is None or address % 4:
            self.send(_NACK)
            return False
        yield Spend(words * 1e-7)
        for at in range(0, len(content), 4):
            crc ^= int.from_bytes(content[at : at + 4], "little")
            for _ in range(32):
                crc = (crc << 1 ^ (polynomial if crc >> 31 else 0)) & 0xFFFFFFFF
        answer = crc.to_bytes(4, "big")
        self.send(answer + bytes([reduce(xor, answer)]))
        return False


def _program(kind: Stm32Kind, text: str, size: int, seed: int) -> Image:
    return samples.stm32_image(text, size, kind.ram_bytes, seed, kind.erased)


def _board(chip: str, name: str = "") -> BenchBoard:
    circuit = RtsResetDtrBoot() if chip == "stm32f103" else DtrResetRtsBoot()
    kind = KINDS[chip]
    return board_of(kind, SimulatedStm32, _program, name or chip, circuit, PROBE, chip=chip, boot_level="high")


BOARDS = (_board("stm32f072", "brood-probe"), *map(_board, KINDS))
