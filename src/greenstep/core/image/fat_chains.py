"""Whether the cluster chains of a FAT end (Microsoft, "FAT: General Overview of On-Disk Format", sections 3 and 4).

In a damaged one they may go round in circles, which whoever follows them must know before.
"""

from __future__ import annotations

_FAT12_MOST, _FAT16_MOST = 4085, 65525  # clusters


def chains_end(data: bytes) -> bool:
    """False for a FAT with a chain that comes back to itself, and for one whose header makes no sense."""
    sector = int.from_bytes(data[11:13], "little")
    cluster, reserved, fats = data[13], int.from_bytes(data[14:16], "little"), data[16]
    root = int.from_bytes(data[17:19], "little")
    sectors = int.from_bytes(data[19:21], "little") or int.from_bytes(data[32:36], "little")
    fat_sectors = int.from_bytes(data[22:24], "little") or int.from_bytes(data[36:40], "little")
    if sector < 128 or not cluster or not reserved or not fats or not fat_sectors or sectors * sector > len(data):
        return False
    first = reserved + fats * fat_sectors + -(-root * 32 // sector)
    number = (sectors - first) // cluster
    if number <= 0:
        return False
    table = data[reserved * sector : (reserved + fat_sectors) * sector]
    return _no_circle(_entries(table, number))


def _entries(table: bytes, number: int) -> list[int]:
    """What follows each cluster; 0 where nothing does."""
    bits = 12 if number < _FAT12_MOST else 16 if number < _FAT16_MOST else 32
    count = min(number + 2, len(table) * 8 // bits)
    if bits == 12:
        pairs = (int.from_bytes(table[n * 3 // 2 : n * 3 // 2 + 2], "little") for n in range(count))
        values = [pair >> 4 if n & 1 else pair & 0xFFF for n, pair in enumerate(pairs)]
    else:
        size = bits // 8
        values = [int.from_bytes(table[n * size : (n + 1) * size], "little") for n in range(count)]
        if bits == 32:
            values = [value & 0x0FFFFFFF for value in values]
    return [value if 2 <= value < count and n >= 2 else 0 for n, value in enumerate(values)]


def _no_circle(following: list[int]) -> bool:
    done: set[int] = set()
    for start in range(2, len(following)):
        passed: set[int] = set()
        at = start
        while at and at not in done:
            if at in passed:
                return False
            passed.add(at)
            at = following[at]
        done |= passed
    return True
