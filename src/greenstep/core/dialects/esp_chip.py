"""What an ESP reports about itself: its factory address and its security settings.

What an ESP's ROM erases when told to begin a write. The ESP8266's counts the sectors up to the next 64 KiB block
twice (`twice`), and so erases more or less than it is asked for.

The flash chip of an ESP, accessed through the registers of the chip's SPI controller."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from ..chips.part import Part
from ..frozen import frozen
from ..spans import Span
from .errors import Silence
from .results import WriteBlock

SECURITY_S2, SECURITY_LATER = 12, 20
"""Bytes of the security information of the ESP32-S2, which reports no chip id, and of later chips."""
_CHIP_ID_S2 = 2

ReadRegister = Callable[[int], int]


def chip_id_in(information: bytes) -> int | None:
    """The chip id that security information stands for; None for anything else."""
    if len(information) == SECURITY_S2:
        return _CHIP_ID_S2
    return int.from_bytes(information[12:16], "little") if len(information) == SECURITY_LATER else None


def mac_of(part: Part, read_register: ReadRegister) -> str:
    """The factory address, most significant byte first; empty if its place is not known."""
    places = part.extra.get("mac")
    if not places:
        return ""
    if places == "8266":
        low, middle, _, high = (read_register(0x3FF00050 + 4 * n) for n in range(4))
        usual = b"\xac\xd0\x74" if middle >> 16 & 0xFF else b"\x18\xfe\x34"
        maker = high.to_bytes(4, "big")[1:] if high else usual
        address = maker + bytes([middle >> 8 & 0xFF, middle & 0xFF, low >> 24])
    else:
        low, high = (read_register(place) for place in places)
        address = (high & 0xFFFF).to_bytes(2, "big") + low.to_bytes(4, "big")
    return ":".join(f"{byte:02X}" for byte in address)


@frozen
class Security:
    """`signed_only`: it only starts what is signed; `encrypts`: it decrypts what is in its flash; `locked` is why it
    lets nothing be read or written, else empty."""

    signed_only: bool = False
    encrypts: bool = False
    locked: str = ""

    @classmethod
    def of(cls, part: Part, information: bytes, read_register: ReadRegister) -> Security:
        """From the security information, or from the ESP32's own fuse registers; nothing on an ESP8266."""
        if information:
            flags, crypt = int.from_bytes(information[:4], "little"), information[4] if len(information) > 4 else 0
        elif "fuses" in part.extra:
            fuses = int(part.extra["fuses"])
            crypt = read_register(fuses) >> 20 & 0x7F
            flags = int(bool(read_register(fuses + 0x18) >> 4 & 3))  # ABS_DONE_0, ABS_DONE_1: secure boot V1, V2
        else:
            return cls()
        locked = f"security flags {flags:08X}: secure download is on" if flags & 4 else ""
        return cls(bool(flags & 1), bool(crypt.bit_count() & 1), locked)

    @property
    def details(self) -> list[tuple[str, str]]:
        on = (("secure boot", self.signed_only), ("flash encryption", self.encrypts))
        return [(title, "on") for title, is_on in on if is_on]


SECTOR, SECTORS_A_BLOCK = 0x1000, 16


def runs_of(blocks: Sequence[WriteBlock]) -> list[tuple[int, bytes]]:
    """(address, bytes) of blocks that follow each other without a gap: each run takes one begin command."""
    runs: list[tuple[int, bytearray]] = []
    for block in blocks:
        if runs and runs[-1][0] + len(runs[-1][1]) == block.address:
            runs[-1][1].extend(block.data)
        else:
            runs.append((block.address, bytearray(block.data)))
    return [(address, bytes(data)) for address, data in runs]


def size_to_ask_for(span: Span, twice: bool) -> int:
    """What to ask for so that a span is erased, in bytes."""
    count = -(-span.size // SECTOR)
    if not twice:
        return count * SECTOR
    head = _counted_twice(span.start, count)
    return ((count + 1) // 2 if count < 2 * head else count - head) * SECTOR


def begun_apart(span: Span, twice: bool) -> list[Span]:
    """The begin commands, in order, with which these sectors are erased and none after them. If one more would be
    erased, the first sector is begun alone: what that erases along belongs to the rest."""
    if not twice or span.size <= SECTOR or erased_up_to(span.start, span.end) <= span.end:
        return [span]
    return [Span.of(span.start, SECTOR), Span(span.start + SECTOR, span.end)]


def erased_up_to(low: int, high: int) -> int:
    """The end address of what the ESP8266's ROM erases for these sectors: an even number if everything asked for is
    counted twice."""
    count = -(-(high - low) // SECTOR)
    return high if count >= 2 * _counted_twice(low, count) else low + (count + count % 2) * SECTOR


def _counted_twice(start: int, count: int) -> int:
    """How many of `count` sectors lie before the next 64 KiB block."""
    return min(SECTORS_A_BLOCK - start // SECTOR % SECTORS_A_BLOCK, count)


@frozen
class _Registers:
    """Offsets of the SPI controller's registers, from the chips' technical reference manuals, "SPI controller".

    `lengths` are those of the registers for (MOSI, MISO) bit lengths; None if USR1 holds both. `address_shift` is
    where the 24-bit address stands in its register: bits 31:8 at first, 23:0 from the ESP32-S2 on.
    """

    user: int
    user1: int
    user2: int
    data: int
    lengths: tuple[int, int] | None
    address_shift: int


_LAYOUTS = {
    "8266": _Registers(0x1C, 0x20, 0x24, 0x40, None, 8),
    "32": _Registers(0x1C, 0x20, 0x24, 0x80, (0x28, 0x2C), 8),
    "late": _Registers(0x18, 0x1C, 0x20, 0x58, (0x24, 0x28), 0),
}
_USER_COMMAND, _USER_ADDRESS, _USER_MISO = 1 << 31, 1 << 30, 1 << 28
_START = 1 << 18
_READ_ID, _READ, _READ_SFDP = 0x9F, 0x03, 0x5A  # JEDEC JESD216: read identification, read data, read SFDP
_USER_DUMMY, _SFDP_DUMMY = 1 << 29, 8
_SFDP_SIGNATURE = b"SFDP"
AT_ONCE = 64
"""Bytes that the data registers hold."""


class FlashChip:
    """`read` and `write` access a register. Settings are made once, until `forget`."""

    def __init__(self, read: Callable[[int], int], write: Callable[[int, int], None]) -> None:
        self._read, self._write = read, write
        self._ready: int | None = None

    def forget(self) -> None:
        """Something else may have changed the registers."""
        self._ready = None

    def number(self, part: Part) -> int:
        """The JEDEC id: maker in the low byte, then type, then size. Raises DialectError."""
        self._command(part, _READ_ID, 24)
        return self._read(part.extra["spi"] + _LAYOUTS[part.extra["layout"]].data) & 0xFFFFFF

    def content(self, part: Part, address: int, size: int) -> bytes:
        """`size` bytes, at most `AT_ONCE`, from `address`. Raises DialectError."""
        data_at = part.extra["spi"] + _LAYOUTS[part.extra["layout"]].data
        self._command(part, _READ, 8 * AT_ONCE, address)
        words = (self._read(data_at + offset) for offset in range(0, size, 4))
        return b"".join(word.to_bytes(4, "little") for word in words)[:size]

    def density(self, part: Part) -> int:
        """The size in bytes that the flash chip's own tables tell (JESD216, basic table, second word: bits less one,
        or their logarithm); 0 if it has none. Raises DialectError."""
        header = self._tables(part, 0)
        if header[:4] != _SFDP_SIGNATURE:
            return 0
        word = int.from_bytes(self._tables(part, int.from_bytes(header[12:15], "little"))[4:8], "little")
        exponent = word & 0x7FFFFFFF
        if word >> 31:
            return 1 << exponent >> 3 if exponent < 40 else 0
        return (word + 1) // 8

    def _tables(self, part: Part, address: int) -> bytes:
        """16 bytes of its tables."""
        data_at = part.extra["spi"] + _LAYOUTS[part.extra["layout"]].data
        self._command(part, _READ_SFDP, 128, address, _SFDP_DUMMY)
        return b"".join(self._read(data_at + offset).to_bytes(4, "little") for offset in range(0, 16, 4))

    def _command(self, part: Part, command: int, bits: int, address: int | None = None, dummy: int = 0) -> None:
        """Run one command of the flash chip; its answer of `bits` is in the data registers afterwards."""
        base, registers = part.extra["spi"], _LAYOUTS[part.extra["layout"]]
        if self._ready != command:
            user = _USER_COMMAND | _USER_MISO | (_USER_ADDRESS if address is not None else 0)
            user |= _USER_DUMMY if dummy else 0
            self._write(base + registers.user, user)
            length = (23 << 26 if address is not None else 0) | (dummy - 1 if dummy else 0)
            if registers.lengths is None:
                self._write(base + registers.user1, length | (bits - 1) << 8)
            else:
                self._write(base + registers.user1, length)
                self._write(base + registers.lengths[1], bits - 1)
            self._write(base + registers.user2, 7 << 28 | command)
            self._ready = command
        if address is not None:
            self._write(base + 4, address << registers.address_shift)
        self._write(base, _START)
        for _ in range(20):
            if not self._read(base) & _START:
                return
        raise Silence("end of the SPI controller's command", 0.0)
