"""Nordic's serial DFU: 64 bytes in a frame, escaped; objects of 4 KiB, each made, sent, its CRC asked for, executed."""

from __future__ import annotations

from greenstep.bench.boards import BOARDS

from . import SIZE, Case, Floor


def cases() -> list[Case]:
    board = BOARDS["nrf52832"]
    image = board.program("", SIZE, 3)
    data = image.pieces[0].data
    escaped = data.count(b"\xc0") + data.count(b"\xdb")
    objects = SIZE // 4096
    characters = len(data) + escaped + len(data) // 64 * 2 + (objects + 1) * (8 + 4 + 2 + 12 + 2 + 4) + 101 + 76
    floor = Floor(characters, 3 * (objects + 1) + 4, objects * 0.085 + SIZE * 2e-6)
    return [Case("nrf52832", "nrf52832", image, floor, {})]
