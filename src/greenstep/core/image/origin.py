"""For which family an image looks made, by how it begins.

Cortex-M: first stack pointer and reset handler (ARMv7-M Architecture Reference Manual, B1.5.3). ARM7: vectors are
instructions (ARM Architecture Reference Manual, A2.6). AVR: a table of JMP or RJMP (AVR Instruction Set Manual).
PIC18: GOTO at the reset vector (PIC18 data sheets). ESP: boot headers and partition table (Espressif, "Firmware
Image Format", "Partition Tables").
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import field
from typing import Literal

from ..frozen import frozen
from .boot_header import MAGIC, SIZES, SIZES_8266, BootHeader, HeaderError, name_of, read_header, size_bytes
from .model import Image, Piece
from .partitions import Partition, read_table
from .pic18 import goto_target

Family = Literal["cortex-m", "arm7", "avr", "pic18", "esp", "esp partitions"]

_STACKS = ((0x20000000, 0x20200000), (0x10000000, 0x10040000), (0x1FFF0000, 0x20000000), (0x24000000, 0x24100000))
"""Where Cortex-M parts have RAM that a first stack pointer points to."""
_LONGEST_TABLE = 256
_SECTOR = 0x1000
_FEWEST_JUMPS = 3


@frozen
class Origin:
    """A beginning of a program, or of a table, that is as its family has it.

    `size` is that of the table of vectors in bytes. `entry` is the byte address it starts at, `stack` the first stack
    pointer; `vectors` how many there are, `unused` how many of them share the target `unused_to`. `base` is where a
    program lies by its own vectors, where that is not `address`.
    """

    family: Family
    address: int
    size: int = 0
    entry: int | None = None
    stack: int | None = None
    vectors: int = 0
    unused: int = 0
    unused_to: int | None = None
    jump: str = ""
    base: int | None = None
    header: BootHeader | None = None
    partitions: tuple[Partition, ...] = field(default=())


def origins_of(image: Image) -> tuple[Origin, ...]:
    """What begins in an image, in order of address; nothing is repeated for what lies inside another."""
    found: list[Origin] = []
    for piece in image.pieces:
        found += _esp(piece)
    esp = {origin.address for origin in found}
    for piece in image.pieces:
        if piece.address not in esp:
            origin = _arm(piece, image) or _avr(piece) or _pic(piece, image)
            if origin is not None:
                found.append(origin)
    return tuple(sorted(found, key=lambda origin: origin.address))


def flash_bytes_said(image: Image) -> int | None:
    """How much flash the first boot header in the image says the chip has; None where there is none."""
    for piece in image.pieces:
        for origin in _esp(piece):
            if origin.header is not None:
                sizes = SIZES_8266 if origin.header.chip_id is None else SIZES
                name = name_of(origin.header.size, sizes)
                return size_bytes(name) if name in sizes else None
    return None


def _shared(times: int, vectors: int) -> bool:
    """Whether so many of the vectors may be those that are not used: they all go to one place."""
    return times > max(3, vectors // 5)


def _word(data: bytes, at: int) -> int:
    return int.from_bytes(data[at : at + 4], "little")


def _arm(piece: Piece, image: Image) -> Origin | None:
    data = piece.data
    if len(data) < 8:
        return None
    stack, reset = _word(data, 0), _word(data, 4)
    if stack % 4 == 0 and reset & 1 and any(low < stack <= high for low, high in _STACKS):
        return _cortex_m(piece, image, stack, reset & ~1)
    if len(data) >= 32 and all(data[at + 3] >> 4 == 0xE for at in (0, 4, 8, 12, 16, 24, 28)):
        return Origin("arm7", piece.address, 32, vectors=8)
    return None


def _cortex_m(piece: Piece, image: Image, stack: int, entry: int) -> Origin | None:
    """The table ends at the first word that is neither 0 nor an odd address near the reset handler."""
    number = 2
    while number < _LONGEST_TABLE and 4 * number + 4 <= len(piece.data):
        word = _word(piece.data, 4 * number)
        near = abs((word & ~1) - entry) < 16 << 20
        if word and not (word & 1 and near):
            break
        number += 1
    base = None
    if not image.touches(entry, 2):
        base = _base_of(entry, len(piece.data))
        if base is None and number < 16:
            return None
    targets = Counter(_word(piece.data, 4 * n) & ~1 for n in range(2, number) if _word(piece.data, 4 * n))
    to, times = targets.most_common(1)[0] if targets else (None, 0)
    return Origin(
        "cortex-m",
        piece.address,
        4 * number,
        entry,
        stack,
        number,
        times if _shared(times, number) else 0,
        to if _shared(times, number) else None,
        base=base if base != piece.address else None,
    )


def _base_of(entry: int, size: int) -> int | None:
    """The round address at which the program must lie that its own reset handler is inside it."""
    for bits in range(24, 8, -1):
        base = entry >> bits << bits
        if base <= entry < base + size:
            return base
    return None


def _avr(piece: Piece) -> Origin | None:
    """JMP is two words, 940C and the target; RJMP one, Ckkk, whose target is counted from the next word."""
    data = piece.data
    if len(data) < 4:
        return None
    first = data[0] | data[1] << 8
    jmp = first & 0xFE0E == 0x940C
    if not jmp and first & 0xF000 != 0xC000:
        return None
    step = 4 if jmp else 2
    targets: list[int] = []
    for at in range(0, min(len(data) - step + 1, step * _LONGEST_TABLE), step):
        target = jump_target(data[at : at + step], piece.address + at)
        if target is None:
            break
        targets.append(target)
    if len(targets) < _FEWEST_JUMPS:
        return None
    to, times = Counter(targets[1:]).most_common(1)[0]
    shared = _shared(times, len(targets))
    return Origin(
        "avr",
        piece.address,
        step * len(targets),
        targets[0],
        vectors=len(targets),
        unused=times if shared else 0,
        unused_to=to if shared else None,
        jump="JMP" if jmp else "RJMP",
    )


def jump_target(code: bytes, address: int) -> int | None:
    """The byte address that an AVR's JMP or RJMP at `address` goes to, RJMP without going round the end of the flash;
    None where the bytes are neither."""
    if len(code) < 2:
        return None
    first = code[0] | code[1] << 8
    if first & 0xFE0E == 0x940C and len(code) >= 4:
        return 2 * ((first & 0x01F0) << 13 | (first & 1) << 16 | code[2] | code[3] << 8)
    if first & 0xF000 == 0xC000:
        words = first & 0x0FFF
        return address + 2 + 2 * (words - 0x1000 if words & 0x800 else words)
    return None


def _pic(piece: Piece, image: Image) -> Origin | None:
    target = goto_target(piece.data[:4])
    if target is None or not image.touches(target, 2):
        return None
    return Origin("pic18", piece.address, 4, target, vectors=1, jump="GOTO")


def _esp(piece: Piece) -> Iterator[Origin]:
    """Headers and tables begin pieces, or sectors of 4 KiB inside a merged image; the latter only with their sums
    right."""
    end = summed = 0
    whole = memoryview(piece.data)  # a merged image has thousands of sectors, none of which is to be copied
    first = -piece.address % _SECTOR
    places = sorted({0, *range(first, len(piece.data), _SECTOR)})
    for at in places:
        if at < end or piece.data[at] not in (MAGIC, 0xAA):
            continue
        if summed > 4 * len(piece.data):  # headers upon headers, each with the rest of the file for its own
            return
        header, cost = _header(whole[at:]) if piece.data[at] == MAGIC else (None, 0)
        summed += cost
        if header is not None and (header.checksum_right or at == 0):
            yield Origin("esp", piece.address + at, header.length, header.entry, header=header)
            end = at + header.length
            continue
        rows = read_table(piece.data[at : at + 0xC00])
        if rows:
            yield Origin("esp partitions", piece.address + at, 32 * len(rows), partitions=tuple(rows))


def _header(data: memoryview) -> tuple[BootHeader | None, int]:
    """By which kind of header the sum comes out right; else the kind that can be read. And how many bytes were
    summed for that."""
    readable = []
    for extended in (True, False):
        try:
            header = read_header(data, extended)
        except HeaderError:
            continue
        readable.append(header)
        if header.checksum_right and header.segments:
            break
    summed = sum(header.length for header in readable)
    with_segments = [header for header in readable if header.segments]
    best = [header for header in with_segments if header.checksum_right] or with_segments
    return (best[0] if best else None), summed
