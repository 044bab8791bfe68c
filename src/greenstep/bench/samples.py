"""Made-up images for the apiary's boards: valid vectors, program-like bytes, and the text they print."""

from __future__ import annotations

import random
from functools import reduce
from operator import xor

from greenstep.core.image import Image, Piece

from .application import MARK


def stm32_image(text: str, size_bytes: int, ram_bytes: int = 16384, seed: int = 1, fill: int = 0xFF) -> Image:
    """A Cortex-M program at 08000000 of `size_bytes`, with some blank space inside."""
    source = random.Random(seed)
    start = 0x08000000
    stack = 0x20000000 + ram_bytes
    handlers = [start + 0x100 + 2 * source.randrange(200) | 1 for _ in range(47)]
    vectors = b"".join(word.to_bytes(4, "little") for word in (stack, start + 0xC1, *handlers))
    return Image(
        "brood-probe.hex",
        (Piece(start, body_of(vectors, text, size_bytes, source, fill)),),
        start + 0xC1,
        "Intel HEX",
    )


def avr_image(text: str, size_bytes: int, seed: int = 2) -> Image:
    """An AVR program from 0 of `size_bytes`: a table of jumps, then code."""
    source = random.Random(seed)
    jumps = [0x34 + source.randrange(100) for _ in range(26)]
    vectors = b"".join(b"\x0c\x94" + (word % (size_bytes // 2)).to_bytes(2, "little") for word in jumps)
    name = f"{'-'.join(text.split()[:2])}.hex" if text else "scale.hex"
    return Image(name, (Piece(0, body_of(vectors, text, size_bytes, source, 0xFF)),), None, "Intel HEX")


def lpc_image(text: str, size_bytes: int, ram_bytes: int, seed: int = 6, start: int = 0) -> Image:
    """A Cortex-M program, as linked: without the sum that the ROM wants in its vectors."""
    source = random.Random(seed)
    handlers = [start + 0x100 + 2 * source.randrange(100) | 1 for _ in range(32)]
    words = [0x10000000 + ram_bytes, start + 0xC1, *handlers[:5], 0, *handlers[5:]]
    vectors = b"".join(word.to_bytes(4, "little") for word in words)
    body = bytearray(body_of(vectors, text, size_bytes, source, 0xFF))
    if size_bytes > 0x300:
        body[0x2FC:0x300] = b"\xff" * 4
    return Image("entrance-counter.hex", (Piece(start, bytes(body)),), start + 0xC1, "Intel HEX")


def with_sum(image: Image) -> Image:
    """The same with the sum in word 7, as in the chip."""
    data = image.pieces[0].data
    total = -sum(int.from_bytes(data[at : at + 4], "little") for at in range(0, 28, 4)) & 0xFFFFFFFF
    return Image(image.name, (Piece(image.lowest, data[:28] + total.to_bytes(4, "little") + data[32:]),))


def pic_image(text: str, size_bytes: int, seed: int = 8, start: int = 0) -> Image:
    """A PIC18 program from `start`: a GOTO, code and, as from a compiler, configuration words after the code."""
    source = random.Random(seed)
    k = (start + 0x40) // 2
    jump = bytes([k & 0xFF, 0xEF, k >> 8 & 0xFF, 0xF0 | k >> 16])
    body = body_of(jump, text, size_bytes // 2 * 2, source, 0xFF)
    return Image(
        "feeder-pump.hex", (Piece(start, body), Piece(0x300000, bytes([0x00, 0x27, 0x1F, 0x1E]))), None, "Intel HEX"
    )


def pic16_image(text: str, size_bytes: int, seed: int = 8, start: int = 0) -> Image:
    """A PIC16 program from `start`, two bytes to a word of 14 bits: MOVLP and GOTO, its text as RETLW, code; and
    configuration words."""
    source = random.Random(seed)
    target = start // 2 + 8
    words = [0x3180 | target >> 8, 0x2800 | target & 0x7FF]
    mark = MARK + text.encode() + b"\0"
    free = size_bytes // 2 - len(words)
    if free >= len(mark) + 8:
        words += [0x3400 | byte for byte in mark]
    code = [source.randrange(0x3400) for _ in range(size_bytes // 2 - len(words))]
    if size_bytes > 4096:  # a table left blank by the compiler
        hole = len(code) // 2
        code[hole : hole + 256] = [0x3FFF] * 256
    body = b"".join(word.to_bytes(2, "little") for word in words + code)
    config = Piece(0x1000E, bytes([0xE4, 0x1F, 0xFF, 0x1E]))
    return Image("feeder-pump.hex", (Piece(start, body), config), None, "Intel HEX")


def as_an1310_holds(image: Image, loader: int) -> Image:
    """The code with its jump below the loader and the loader's at 0, as in the chip."""
    code = image.pieces[0]
    k = loader // 2
    jump = bytes([k & 0xFF, 0xEF, k >> 8 & 0xFF, 0xF0 | k >> 16])
    return Image(image.name, (Piece(0, jump + code.data[4:]), Piece(loader - 4, code.data[:4])))


def code_of(image: Image) -> Image:
    """The code alone."""
    return Image(image.name, image.pieces[:1])


def plain_image(text: str, size_bytes: int, seed: int = 4) -> Image:
    """A program of no particular chip, from 0."""
    source = random.Random(seed)
    return Image(
        "smoke-fan.bin", (Piece(0, body_of(b"\x10\x20\x30\x40", text, size_bytes, source, 0xFF)),), None, "raw binary"
    )


def esp_image(
    text: str, size_bytes: int, seed: int = 3, boot: int = 0x1000, chip_id: int | None = 0, flash: int = 2
) -> Image:
    """What an ESP holds: from the ESP32 on (`chip_id` is not None) a second loader at `boot`, a partition table at
    8000 and a program of `size_bytes` at 10000; on an ESP8266 one image from 0."""
    source = random.Random(seed)
    body = body_of(b"\x12\x34\x56\x78", text, max(64, size_bytes // 4 * 4), source, 0xFF)
    if chip_id is None:
        return Image("rain-gauge.bin", (Piece(0, _esp_file(body, None, 0x40 | 0)),), None, "raw binary")
    loader = bytes(source.randrange(256) for _ in range(2048))
    pieces = (
        Piece(boot, _esp_file(loader, chip_id, flash << 4)),
        Piece(0x8000, _partition_table()),
        Piece(0x10000, _esp_file(body, chip_id, flash << 4)),
    )
    return Image("apiary-gateway.bin", pieces, None, "raw binary")


def _esp_file(body: bytes, chip_id: int | None, size_and_speed: int) -> bytes:
    """An image by Espressif's "Firmware Image Format": header, one segment, checksum, digest."""
    data = bytes([0xE9, 1, 2, size_and_speed]) + (0x40080000).to_bytes(4, "little")
    if chip_id is not None:
        data += b"\xee\x00\x00\x00" + chip_id.to_bytes(2, "little") + bytes(9) + b"\x01"
    data = data.ljust(24 if chip_id is not None else 8, b"\x00")
    data += (0x3FFB0000).to_bytes(4, "little") + len(body).to_bytes(4, "little") + body
    import hashlib  # imports a large library

    data = data.ljust(len(data) | 15, b"\x00") + bytes([reduce(xor, body, 0xEF)])
    return data if chip_id is None else data + hashlib.sha256(data).digest()


def _partition_table() -> bytes:
    import hashlib

    rows = ((1, 2, 0x9000, 0x6000, b"hives"), (1, 1, 0xF000, 0x1000, b"radio"), (0, 0, 0x10000, 0x100000, b"gateway"),
            (1, 0x82, 0x290000, 0x100000, b"pages"))  # fmt: skip
    table = b"".join(
        b"\xaa\x50"
        + bytes([kind, sub])
        + at.to_bytes(4, "little")
        + size.to_bytes(4, "little")
        + label.ljust(20, b"\x00")
        for kind, sub, at, size, label in rows
    )
    return table + b"\xeb\xeb".ljust(16, b"\xff") + hashlib.md5(table, usedforsecurity=False).digest()


def body_of(vectors: bytes, text: str, size_bytes: int, source: random.Random, fill: int) -> bytes:
    """A program of `size_bytes`: its vectors, the text it prints, then bytes that look like code."""
    mark = MARK + text.encode() + b"\x00"
    body = bytearray(vectors[:size_bytes].ljust(size_bytes, bytes([fill])))
    free = len(vectors) + len(mark)
    if size_bytes < free + 16:
        return bytes(body)
    body[len(vectors) :] = source.randbytes(size_bytes - len(vectors))
    body[len(vectors) : free] = mark
    if size_bytes > 4096:  # a table left blank by the compiler
        hole = size_bytes // 2 // 256 * 256
        body[hole : hole + 512] = bytes([fill]) * 512
    return bytes(body)
