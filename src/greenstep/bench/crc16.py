"""The CRC that guards the blocks of XMODEM and AN1310, computed from its polynomial. The tool's own code is not used
here: two sides that share a mistake agree."""

from __future__ import annotations

_POLYNOMIAL = 0x1021  # CRC-16-CCITT (XMODEM/YMODEM Protocol Reference; Microchip AN1310)


def _remainder(byte: int) -> int:
    crc = byte << 8
    for _ in range(8):
        crc = (crc << 1 ^ _POLYNOMIAL if crc & 0x8000 else crc << 1) & 0xFFFF
    return crc


_REMAINDERS = [_remainder(byte) for byte in range(256)]


def crc16(data: bytes) -> int:
    """Start 0, most significant bit first."""
    crc = 0
    for byte in data:
        crc = crc << 8 & 0xFF00 ^ _REMAINDERS[crc >> 8 ^ byte]
    return crc
