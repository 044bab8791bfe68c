"""Made-up images for the apiary's boards: right vectors, program-like bytes, and the text they print."""

from __future__ import annotations

import random

from greenstep.core.image import Image, Piece

from .application import MARK


def stm32_image(text: str, size_bytes: int, ram_bytes: int = 16384, seed: int = 1, fill: int = 0xFF) -> Image:
    """A Cortex-M program at 08000000 of `size_bytes`, with some blank room inside."""
    source = random.Random(seed)
    start = 0x08000000
    stack = 0x20000000 + ram_bytes
    handlers = [start + 0x100 + 2 * source.randrange(200) | 1 for _ in range(47)]
    vectors = b"".join(word.to_bytes(4, "little") for word in (stack, start + 0xC1, *handlers))
    return Image(
        "brood-probe.hex", (Piece(start, _body(vectors, text, size_bytes, source, fill)),), start + 0xC1, "Intel HEX"
    )


def avr_image(text: str, size_bytes: int, seed: int = 2) -> Image:
    """An AVR program from 0 of `size_bytes`: a table of jumps, then code."""
    source = random.Random(seed)
    jumps = [0x34 + source.randrange(100) for _ in range(26)]
    vectors = b"".join(b"\x0c\x94" + (word % (size_bytes // 2)).to_bytes(2, "little") for word in jumps)
    return Image("hive-scale.hex", (Piece(0, _body(vectors, text, size_bytes, source, 0xFF)),), None, "Intel HEX")


def _body(vectors: bytes, text: str, size_bytes: int, source: random.Random, fill: int) -> bytes:
    mark = MARK + text.encode() + b"\x00"
    body = bytearray(vectors[:size_bytes].ljust(size_bytes, bytes([fill])))
    free = len(vectors) + len(mark)
    if size_bytes < free + 16:
        return bytes(body)
    for at in range(len(vectors), size_bytes):
        body[at] = source.randrange(256)
    body[len(vectors) : free] = mark
    if size_bytes > 4096:  # a table that a compiler left blank
        hole = size_bytes // 2 // 256 * 256
        body[hole : hole + 512] = bytes([fill]) * 512
    return bytes(body)
