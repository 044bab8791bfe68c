"""Simulated radio chips of TI with the loader in their ROM, from SWRA466 and SWRU333. Boards: cc2652p, cc2650,
cc1352p7, cc2538.

| what | CC13xx, CC26xx | CC2538 |
|---|---|---|
| enters its loader | if no image is valid; else by the pin that BL_CONFIG names, if C5 stands in its lowest and highest byte | the same, by bit 4 of 27FFD7 and the pin below it |
| image valid | CCFG + 44h: 00000000 on x0, from x2 on the address of the vectors, 0 by default; never FFFFFFFF | 27FFD8: 00000000, vectors at the next word |
| download (21h) | announces address and size, erases nothing | the same |
| erase (26h) | one sector | pages, by address and size |
| CRC-32 (27h) | over exactly the range that is asked for | the same |
| reset (25h) | acknowledged, then as above: what is not valid stays in the loader | the same |
| remembered over a reset | nothing but the flash | the same |
| status (23h) | of the last command: 40h well, 41h unknown, 42h invalid, 43h address, 44h flash | the same |

Stricter than silicon: a read of any other width or outside the memories is refused; the CC2650 refuses to erase at
an address inside a sector, and inverts its CRC otherwise than the CC2652P.
"""  # noqa: E501

from __future__ import annotations

import zlib

from greenstep.core.frozen import frozen
from greenstep.core.image import Image, Piece

from ..boards import FAN, BenchBoard, board_of
from ..chip import Spend
from ..circuits import Circuit, CrossPair, DtrResetRtsBoot, RtsResetDtrBoot
from ..ti_loader import BAD_ADDRESS, INVALID, OK, UNKNOWN, Steps, TiKind, TiLoader, cortex_m_image, numbers

_CCFG_BYTES = 88
_CRC_BYTE_S = 2.5e-6


@frozen
class RadioKind(TiKind):
    """`first` is a CC13xx or CC26xx. `strict`: an address to erase must be a sector's first. `inverted`: the CRC is,
    at the end. `high_first`: words are read high byte first."""

    first: bool = True
    strict: bool = False
    inverted: bool = True
    high_first: bool = False
    zero_is_valid: bool = False
    """Whether the word that marks a valid image is 0 and no address."""


KINDS = {
    "cc2652p": RadioKind("CC2652P, 352 KiB", 352 * 1024, 8192, 0.010, ram_bytes=80 * 1024),
    "cc2650": RadioKind(
        "CC2650, 128 KiB", 128 * 1024, 4096, 0.008, strict=True, zero_is_valid=True, inverted=False, high_first=True
    ),
    "cc1352p7": RadioKind("CC1352P7, 704 KiB", 704 * 1024, 8192, 0.010, ram_bytes=144 * 1024),
    "cc2538": RadioKind("CC2538, 512 KiB", 512 * 1024, 2048, 0.020, 0x200000, 20e-6, 32 * 1024, first=False),
}


class SimulatedRadio(TiLoader):
    """One chip. `kind` is a RadioKind."""

    kind: RadioKind

    def enters(self, boot_selected: bool) -> bool:
        """An empty chip enters always; else the pin does if the configuration in the flash enables loader and pin."""
        if not self.kind.first:
            byte, is_valid = self.flash[-0x29], not any(self.flash[-0x28:-0x24])
            return not is_valid or (boot_selected and bool(byte & 0x10))
        area = self.flash[-_CCFG_BYTES:]
        valid = int.from_bytes(area[0x44:0x48], "little")
        if valid and (self.kind.zero_is_valid or valid >= len(self.flash) - 8):
            return True
        if not self.flash[valid : valid + 8].strip(b"\xff"):
            return True
        return boot_selected and (area[0x30], area[0x33]) == (0xC5, 0xC5)

    def command(self, number: int, rest: bytes) -> Steps:
        kind = self.kind
        words = numbers(rest)
        if number == 0x20 and not rest:
            self.status = OK
        elif number == 0x21 and len(rest) == 8:
            self._download(*words)
        elif number == 0x23 and not rest:
            yield from self.answer(bytes([self.status]))
        elif number == 0x24:
            yield from self.take_data(rest)
        elif number == 0x25 and not rest:
            self._leaves = True
        elif number == 0x26 and len(rest) == (4 if kind.first else 8):
            yield from self._erase(words[0], kind.unit if kind.first else words[1])
        elif number == 0x27 and len(rest) == (12 if kind.first else 8):
            yield from self._crc(words[0], words[1])
        elif number == 0x28 and not rest:
            yield from self.answer(bytes.fromhex("2BB4102F"))
        elif number == 0x2A:
            yield from self._read(rest)
        elif number == 0x2C and kind.first and not rest:
            yield from self.wipe(self.base, len(self.flash))
            self.status = OK
        else:
            self.violation(f"command {number:02X} with {len(rest)} bytes")
            self.status = INVALID if 0x20 <= number <= 0x2F else UNKNOWN

    def _download(self, address: int, size: int) -> None:
        fits = self.inside(address, size) and size and not address % 4 and not size % 4
        self.at, self.left = (address, size) if fits else (0, 0)
        self.status = OK if fits else BAD_ADDRESS

    def _erase(self, address: int, size: int) -> Steps:
        unit = self.kind.unit
        strict = self.kind.strict or not self.kind.first
        if not self.inside(address, 1) or (strict and (address % unit or size % unit)) or not size:
            self.status = BAD_ADDRESS
            return
        first = address - address % unit
        if not self.inside(first, size):
            self.status = BAD_ADDRESS
            return
        yield from self.wipe(first, size)
        self.status = OK

    def _crc(self, address: int, size: int) -> Steps:
        if not self.inside(address, size) or not size:
            self.status = BAD_ADDRESS
            return
        yield Spend(size * _CRC_BYTE_S)
        found = zlib.crc32(self.flash[address - self.base : address - self.base + size])
        found ^= 0 if self.kind.inverted else 0xFFFFFFFF
        yield from self.answer(found.to_bytes(4, "big"))

    def _read(self, rest: bytes) -> Steps:
        first = self.kind.first
        if len(rest) != (6 if first else 5) or (rest[4] not in ((0, 1) if first else (1, 4))):
            self.status = INVALID
            return
        address = int.from_bytes(rest[:4], "big")
        word = rest[4] == (1 if first else 4)
        size = (rest[5] if first else 1) * (4 if word else 1)
        content = self._memory(address, size)
        if content is None or size > 253 or not size or (word and address % 4):
            self.status = BAD_ADDRESS
            return
        if word and self.kind.high_first:
            content = b"".join(content[at : at + 4][::-1] for at in range(0, size, 4))
        yield from self.answer(content)

    def _memory(self, address: int, size: int) -> bytes | None:
        if self.inside(address, size):
            return bytes(self.flash[address - self.base : address - self.base + size])
        registers = {0x400D3014: 0xB964004F if self.tells_size else 0xB964000F} if not self.kind.first else {
            0x4003002C: len(self.flash) // self.kind.unit,
            0x500012F0: 0x0C0FFEE0 + self.copy,
            0x500012F4: 0x00124B00,
        }  # fmt: skip
        return registers[address].to_bytes(4, "little") if size == 4 and address in registers else None


def _config(kind: RadioKind) -> Piece:
    """The configuration area: loader and its pin enabled."""
    end = kind.base + kind.flash_bytes
    if not kind.first:
        return Piece(end - 0x2C, b"\xff\xff\xff\xf6" + bytes(4) + kind.base.to_bytes(4, "little"))
    area = bytearray(b"\xff" * _CCFG_BYTES)
    area[0x30:0x34] = bytes.fromhex("C50FFEC5")
    area[0x44:0x48] = bytes(4)
    return Piece(end - _CCFG_BYTES, bytes(area))


def _program(kind: RadioKind, text: str, size: int, seed: int) -> Image:
    config = _config(kind)
    more = (config,) if kind.base + size <= config.address else ()
    return cortex_m_image(text, size, seed, kind.base, kind.ram_bytes, more)


def _board(name: str, circuit: Circuit, chip: str = "") -> BenchBoard:
    return board_of(KINDS[name], SimulatedRadio, _program, name, circuit, FAN, chip=chip or name)


BOARDS = (
    _board("cc2652p", CrossPair()),
    _board("cc2650", DtrResetRtsBoot("low")),
    _board("cc1352p7", RtsResetDtrBoot("low")),
    _board("cc2538", DtrResetRtsBoot("low")),
)
