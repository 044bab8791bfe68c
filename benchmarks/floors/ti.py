"""TI's serial loaders: SWRA466, SWRU333, and the data sheets of Tiva C. What a chip is busy with is partly over before the
next question has arrived, which is not reckoned: a ratio may be below 1."""

from __future__ import annotations

from dataclasses import replace

from greenstep.bench.boards import BOARDS
from greenstep.bench.families import ti, tiva

from . import SIZE, Case, Floor, full_image

_PACKET = 252


def radio_floor(kind: ti.RadioKind, size: int) -> Floor:
    """An erase and its status for each sector (several pages at once on a CC2538), one announcement for every 63
    packets of 252 bytes, one CRC-32 of 2.5 us a byte."""
    packets, units = -(-size // _PACKET), -(-size // kind.unit)
    erases = units if kind.first else -(-units // 16)
    rows = -(-packets // 63)
    characters = (
        erases * ((7 if kind.first else 11) + 2 + 10) + rows * (11 + 2 + 2 * 10) + packets * (3 + 2) + size + 25
    )
    turns = erases * 2 + rows * 4 + packets + 1
    return Floor(characters, turns, units * kind.erase_s + size / 4 * kind.word_s + size * 2.5e-6)


def tiva_floor(kind: tiva.TiKind, size: int) -> Floor:
    """Each page announced, and its packets; the status after each of them; the first page announced twice."""
    pages = -(-size // kind.unit)
    packets = pages * -(-kind.unit // _PACKET)
    characters = (pages + 1) * (11 + 2 + 10) + packets * (3 + 2 + 10) + size
    return Floor(characters, (pages + 1) * 2 + packets * 2, (pages + 1) * kind.erase_s + size / 4 * kind.word_s)


def cases() -> list[Case]:
    found = []
    for name in ("cc2650", "cc2652p", "cc2538"):
        image = full_image(BOARDS[name].program("", SIZE + 64, 3), SIZE)
        found.append(Case(name, name, replace(image, pieces=image.pieces[:1]), radio_floor(ti.KINDS[name], SIZE), {}))
    for name in tiva.KINDS:
        image = full_image(BOARDS[name].program("", SIZE + 64, 3), SIZE)
        found.append(Case(name, name, image, tiva_floor(tiva.KINDS[name], SIZE), {}))
    return found
