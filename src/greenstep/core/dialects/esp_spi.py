"""The flash chip of an ESP, accessed through the registers of the chip's SPI controller."""

from __future__ import annotations

from collections.abc import Callable

from ..chips import Part
from ..frozen import frozen
from .errors import Silence


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
