"""The UART boot of RP2350: 33 characters for 32 bytes, 64 of them answered together; read back, with as many reads on
their way as the chip's UART keeps."""

from __future__ import annotations

from greenstep.bench.boards import BOARDS

from . import SIZE, Case, Floor, full_image


def floor(size: int) -> Floor:
    blocks = size // 32
    return Floor(2 * blocks * 33 + 9, blocks // 64 + blocks // 30 + 4, 0.0, baud=1_000_000)


def cases() -> list[Case]:
    board = BOARDS["rp2350"]
    image = full_image(board.program("", SIZE + 64, 3), SIZE)
    return [Case("rp2350", "rp2350", image, floor(SIZE), {})]
