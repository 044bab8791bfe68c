"""The layer below a FAT in an ESP32's partition that spreads wear: sectors move round by one place whenever enough
was written (ESP-IDF, "Wear Levelling API", and the layout of its component wear_levelling, version 2).

From the start: the sectors, with an empty one among them; at the end two copies of the state, and the configuration.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator

from ..frozen import frozen

SECTOR = 4096
_CONFIG = struct.Struct("<8I")
_STATE = struct.Struct("<8I28x")
_RATE, _RECORD, _VERSION, _BUFFER = 16, 16, 2, 32
_BEGUN_WITH = 0xFFFFFFFF
"""The CRC-32 of both structures continues one with this value."""
_DEVICE = 0x48531980
"""A number of the image's own: a fixed one, so that the same files give the same bytes."""


@frozen
class Levelled:
    """A partition with this layer: `address` in its image, `size` bytes. `first` is how far its sectors have moved,
    `empty` where the empty one is."""

    address: int
    size: int
    first: int
    empty: int


def _state_bytes(size: int) -> int:
    """Of one copy of the state: its head, and a record for each place that the empty sector may be at."""
    return -(-(64 + size // SECTOR * _RECORD) // SECTOR) * SECTOR


def inner_size(size: int) -> int:
    """How many bytes of a partition of `size` a file system has; 0 or less if there is no room."""
    return size - 2 * _state_bytes(size) - 2 * SECTOR


def levelled(data: bytes, size: int) -> bytes:
    """A partition of `size` bytes in which nothing has moved yet; `data` is as long as `inner_size` says."""
    config = _CONFIG.pack(0, size, SECTOR, SECTOR, _RATE, _RECORD, _VERSION, _BUFFER)
    places = inner_size(size) // SECTOR + 1
    state = _STATE.pack(0, places, 0, 0, _RATE, SECTOR, _VERSION, _DEVICE)
    copy = (state + _sum_of(state)).ljust(_state_bytes(size), b"\xff")
    last = (config + _sum_of(config) + bytes(12)).ljust(SECTOR, b"\xff")
    return b"\xff" * SECTOR + data + copy + copy + last


def _sum_of(data: bytes | memoryview) -> bytes:
    return zlib.crc32(data, _BEGUN_WITH).to_bytes(4, "little")


def partitions_in(data: bytes) -> Iterator[Levelled]:
    """Those that an image holds completely: each is found by its configuration, the last of its sectors."""
    whole = memoryview(data)  # many sectors may claim to be the last of a large one, and none of that is copied
    for at in range(0, len(data) - SECTOR + 1, SECTOR):
        head = data[at : at + _CONFIG.size]
        if head[4:8] == b"\xff\xff\xff\xff" or head[8:12] != SECTOR.to_bytes(4, "little"):
            continue
        _, size, page, sector, _, record, version, _ = _CONFIG.unpack(head)
        end = at + SECTOR
        right = data[at + _CONFIG.size :][:4] in (_sum_of(head), zlib.crc32(head).to_bytes(4, "little"))
        if not right or page != SECTOR or sector != SECTOR or version != _VERSION or record != _RECORD:
            continue
        if size % SECTOR or inner_size(size) <= 0 or size > end:
            continue
        place = _place(whole[end - size : end], end - size)
        if place is not None:
            yield place


def _place(whole: memoryview, address: int) -> Levelled | None:
    size, each = len(whole), _state_bytes(len(whole))
    for at in (size - SECTOR - 2 * each, size - SECTOR - each):
        head = whole[at : at + _STATE.size]
        if whole[at + _STATE.size :][:4] not in (_sum_of(head), zlib.crc32(head).to_bytes(4, "little")):
            continue  # the other copy is right then
        _, places, moved, *_ = _STATE.unpack(head)
        sectors = inner_size(size) // SECTOR
        if places != sectors + 1:
            continue
        records = whole[at + 64 : at + 64 + places * _RECORD]
        blank = b"\xff" * _RECORD
        empty = next((n for n in range(places) if records[n * _RECORD :][:_RECORD] == blank), places)
        return Levelled(address, size, moved % sectors, min(empty, places - 1))
    return None


def inside(whole: bytes, place: Levelled) -> bytes:
    """What a file system sees of a partition: its sectors in order, wherever they are now."""
    sectors = inner_size(place.size) // SECTOR
    out = []
    for number in range(sectors):
        at = (sectors - place.first + number) % sectors
        if at >= place.empty:
            at += 1
        out.append(whole[at * SECTOR : (at + 1) * SECTOR])
    return b"".join(out)
