"""What lies at fixed places in an ESP's flash: the header that its ROM looks for at the start of an image (read,
checked, rewritten with another flash size or speed), and the partition table, usually at 8000.

Espressif's "Firmware Image Format": byte 0 is E9, then segment count, SPI mode, flash size and speed, entry; from the
ESP32 on an extended header follows; segments; a checksum at the last byte of a line of 16; a SHA-256 if flagged.
"Partition Tables": rows of 32 bytes, AA 50, type, subtype, offset, size, label, flags; the end is a row EB EB with an
MD5 of everything before it, or blank.
"""

from __future__ import annotations

from itertools import pairwise

from ..frozen import frozen
from ..quantities import show_span

MAGIC = 0xE9
_CHECKSUM_START = 0xEF
_PLAIN, _EXTENDED = 8, 24
MODES = {"qio": 0, "qout": 1, "dio": 2, "dout": 3, "fast": 4, "slow": 5}
SPEEDS = {"40": 0x0, "26": 0x1, "20": 0x2, "80": 0xF}
_SPEEDS_BY_CHIP = {12: {"30": 0x0, "20": 0x1, "15": 0x2, "60": 0xF}, 16: {"24": 0x0, "16": 0x1, "12": 0x2, "48": 0xF}}
"""MHz for the chips whose flash clock is derived from another one, by chip id: ESP32-C2 and H2."""
SIZES_8266 = {"512K": 0, "256K": 1, "1M": 2, "2M": 3, "4M": 4, "8M": 8, "16M": 9}
SIZES = {"1M": 0, "2M": 1, "4M": 2, "8M": 3, "16M": 4, "32M": 5, "64M": 6, "128M": 7}
ALL_SPEEDS = tuple(dict.fromkeys((*SPEEDS, *(name for names in _SPEEDS_BY_CHIP.values() for name in names))))
SPEED_AS_IT_IS = (13, 18, 20, 23)
"""Chip ids whose ROM may not start from every speed, or whose speeds are not known: ESP32-C6, P4, C61, C5."""


def speeds_of(chip_id: int | None) -> dict[str, int]:
    """Nibble by MHz, for a chip; None is the ESP8266."""
    return _SPEEDS_BY_CHIP.get(chip_id if chip_id is not None else -1, SPEEDS)


class HeaderError(ValueError):
    """Bytes that begin like an image and are none; the message says what was read and what was expected."""


@frozen
class BootHeader:
    """`length` is the whole image with checksum and digest. `chip_id` is None without an extended header."""

    segments: tuple[tuple[int, int], ...]
    mode: int
    size: int
    speed: int
    entry: int
    chip_id: int | None
    hashed: bool
    checksum_at: int
    length: int
    checksum_right: bool
    digest_right: bool


def size_bytes(name: str) -> int:
    """Bytes of a size name: 4M, 512K."""
    return int(name[:-1]) * {"K": 1024, "M": 1024 * 1024}[name[-1]]


def read_header(data: bytes | memoryview, extended: bool) -> BootHeader:
    """The header of an image that begins at `data[0]`; `extended` from the ESP32 on. Raises HeaderError."""
    begin = _EXTENDED if extended else _PLAIN
    if len(data) < begin or data[0] != MAGIC:
        raise HeaderError(f"it begins with {data[:1].hex().upper() or 'nothing'}, an image with E9")
    at, segments, summed = begin, [], _CHECKSUM_START
    for number in range(data[1]):
        address, size = int.from_bytes(data[at : at + 4], "little"), int.from_bytes(data[at + 4 : at + 8], "little")
        at += 8
        if at + size > len(data):
            raise HeaderError(
                f"segment {number + 1} of {data[1]} ends {at + size - len(data):,} bytes beyond the end of the file"
            )
        segments.append((address, size))
        summed ^= _xor(data[at : at + size])
        at += size
    checksum_at = at | 15
    if checksum_at >= len(data):
        raise HeaderError("the file ends before its checksum")
    import hashlib  # imports a large library

    hashed = extended and data[23] == 1
    length = checksum_at + 1 + (32 if hashed else 0)
    digest_right = hashlib.sha256(data[: checksum_at + 1]).digest() == data[checksum_at + 1 : length]
    return BootHeader(
        tuple(segments),
        data[2],
        data[3] >> 4,
        data[3] & 15,
        int.from_bytes(data[4:8], "little"),
        int.from_bytes(data[12:14], "little") if extended else None,
        hashed,
        checksum_at,
        length,
        data[checksum_at] == summed,
        not hashed or digest_right,
    )


def _xor(data: bytes | memoryview) -> int:
    """All bytes combined: as one number, halved until a byte is left, which needs no loop over the bytes."""
    value, bits = int.from_bytes(data, "little"), 8 * max(1, 1 << (max(1, len(data)) - 1).bit_length())
    while bits > 8:
        bits //= 2
        value = (value >> bits) ^ (value & ((1 << bits) - 1))
    return value


def rewritten(data: bytes, extended: bool, mode: int | None, size: int | None, speed: int | None) -> bytes:
    """The image with another SPI mode, flash size or speed, and new checksum and digest. Raises HeaderError."""
    header = read_header(data, extended)
    changed = bytearray(data)
    changed[2] = header.mode if mode is None else mode
    changed[3] = (header.size if size is None else size) << 4 | (header.speed if speed is None else speed)
    at, summed = _EXTENDED if extended else _PLAIN, _CHECKSUM_START
    for _, length in header.segments:
        summed ^= _xor(bytes(changed[at + 8 : at + 8 + length]))
        at += 8 + length
    changed[header.checksum_at] = summed
    if header.hashed:
        import hashlib

        end = header.checksum_at + 1
        changed[end : end + 32] = hashlib.sha256(changed[:end]).digest()
    return bytes(changed)


def name_of(value: int, names: dict[str, int]) -> str:
    """The name of a header's value; its number if it has none."""
    return next((name for name, number in names.items() if number == value), f"{value:X}")


USUAL_PLACE = 0x8000
ROW, MOST_BYTES = 32, 0xC00
_ROW_MARK, _MD5_MARK = b"\xaa\x50", b"\xeb\xeb"
APPLICATION, _DATA, _SETTINGS = 0, 1, 2


@frozen
class Partition:
    """One row. `kind` 0 is an application, 1 data."""

    label: str
    kind: int
    subtype: int
    offset: int
    size: int

    @property
    def end(self) -> int:
        return self.offset + self.size

    @property
    def holds_settings(self) -> bool:
        """Whether a program keeps its settings there."""
        return self.kind == _DATA and self.subtype == _SETTINGS


def read_table(data: bytes) -> list[Partition]:
    """The rows of a table that begins at `data[0]`; empty if none begins there."""
    rows = []
    for at in range(0, min(len(data), MOST_BYTES), ROW):
        row = data[at : at + ROW]
        if row[:2] != _ROW_MARK or len(row) < ROW:
            break
        label = row[12:28].partition(b"\x00")[0].decode("ascii", "replace")
        rows.append(
            Partition(label, row[2], row[3], int.from_bytes(row[4:8], "little"), int.from_bytes(row[8:12], "little"))
        )
    return rows


def faults_in(data: bytes, rows: list[Partition], flash_bytes: int) -> list[str]:
    """What is wrong with a table: overlap, the end of the flash, a wrong MD5."""
    faults = []
    ordered = sorted(rows, key=lambda row: row.offset)
    for before, after in pairwise(ordered):
        if after.offset < before.end:
            faults.append(
                f"{before.label} ({show_span(before.offset, before.size)}) and "
                f"{after.label} ({show_span(after.offset, after.size)}) overlap"
            )
    faults += [f"{row.label} ends at {row.end - 1:X}, beyond the flash" for row in ordered if row.end > flash_bytes]
    end = len(rows) * ROW
    last = data[end : end + ROW]
    if last[:2] == _MD5_MARK and last[16:] != _md5(data[:end]):
        faults.append("its MD5 is not that of its rows")
    return faults


def _md5(data: bytes) -> bytes:
    import hashlib  # imports a large library

    return hashlib.md5(data, usedforsecurity=False).digest()
