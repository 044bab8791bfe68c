"""The CRC that STM32 chips compute over their flash (reference manuals, "CRC calculation unit")."""

from __future__ import annotations

import zlib

POLYNOMIAL, START = 0x04C11DB7, 0xFFFFFFFF  # the unit's reset values
_REVERSED = bytes(int(f"{value:08b}"[::-1], 2) for value in range(256))


def word_crc(data: bytes) -> int:
    """The CRC-32 that the STM32 CRC unit computes over 32-bit words: polynomial 04C11DB7, start FFFFFFFF.

    Words are fed most significant bit first and the result is not inverted. zlib's CRC runs the other way round, so
    it gets the bits of each word mirrored.
    """
    words = bytearray(len(data))
    for lane in range(4):
        words[lane::4] = data[3 - lane :: 4]
    mirrored = zlib.crc32(bytes(words).translate(_REVERSED)) ^ 0xFFFFFFFF
    return int(f"{mirrored:032b}"[::-1], 2)
