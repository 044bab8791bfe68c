"""The CRC-32 of two runs of bytes one after the other, from the CRC-32 of each; and four bytes from theirs.

A CRC is a remainder of polynomials over GF(2): putting n bytes behind others multiplies theirs by x to the 8n.
Bits are in the reflected order of IEEE 802.3, so the lowest bit stands for the highest power.
"""

from __future__ import annotations

from functools import cache

_POLYNOMIAL = 0xEDB88320
_ONE = 1 << 31
_ALL = 0xFFFFFFFF
_X = 1 << 30


def joined(first: int, second: int, second_bytes: int) -> int:
    """The CRC-32 of what has the CRC-32 `first`, followed by `second_bytes` bytes that have `second`."""
    return _product(first, _power(8 * second_bytes)) ^ second


def _power(exponent: int) -> int:
    """x to that, as a remainder."""
    result, square = _ONE, _X
    while exponent:
        if exponent & 1:
            result = _product(result, square)
        square = _product(square, square)
        exponent >>= 1
    return result


def _product(one: int, other: int) -> int:
    """The remainder of a product."""
    result, bit = 0, _ONE
    while bit:
        if one & bit:
            result ^= other
        other = other >> 1 ^ (_POLYNOMIAL if other & 1 else 0)
        bit >>= 1
    return result


def bytes_with_crc32(sum_: int) -> bytes:
    """The only four bytes that have this CRC-32: their register is run backwards, as long as they are."""
    state = sum_ ^ _ALL
    for _ in range(4):
        index = _by_high_byte()[state >> 24]
        state = ((state ^ _table()[index]) << 8 & _ALL) | index
    return (state ^ _ALL).to_bytes(4, "little")


@cache
def _table() -> tuple[int, ...]:
    """What each byte does to the register (IEEE 802.3, reflected)."""
    return tuple(_of_byte(value) for value in range(256))


def _of_byte(value: int) -> int:
    for _ in range(8):
        value = value >> 1 ^ (_POLYNOMIAL if value & 1 else 0)
    return value


@cache
def _by_high_byte() -> dict[int, int]:
    """Each entry of the table has a highest byte of its own."""
    return {entry >> 24: index for index, entry in enumerate(_table())}
