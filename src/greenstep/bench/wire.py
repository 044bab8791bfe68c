"""What a UART receives of a character sent at another rate or in another frame."""

from __future__ import annotations

from bisect import bisect_right
from functools import lru_cache
from typing import Literal

from greenstep.core.link import Frame, LineSettings

RATE_TOLERANCE = 0.03
"""Relative difference of the two rates up to which characters arrive intact."""


SAMPLED_AT = 8.5 / 16
"""Where in a bit a receiver samples that takes the majority of samples 8, 9 and 10 of 16."""


def same_language(one: LineSettings, other: LineSettings) -> bool:
    return one.frame == other.frame and abs(one.baud / other.baud - 1) <= RATE_TOLERANCE


Flaw = Literal["", "parity", "framing"]


@lru_cache(maxsize=8192)
def received(data: bytes, sent: LineSettings, receiver: LineSettings) -> tuple[tuple[float, int, Flaw], ...]:
    """(time in s from the first edge, value, flaw) of each character that the receiver makes of `data`, sent back to
    back. A wrong stop bit is reported before a wrong parity."""
    edges = _edges(data, sent)
    times = [at_s for at_s, _ in edges]

    def level_at(at_s: float) -> int:
        before = bisect_right(times, at_s)
        return edges[before - 1][1] if before else 1

    bit_s = 1 / receiver.baud
    frame = receiver.frame
    characters: list[tuple[float, int, Flaw]] = []
    free_s = 0.0
    for at_s, level in edges:
        if level or at_s < free_s:
            continue
        samples = [level_at(at_s + (n + SAMPLED_AT) * bit_s) for n in range(frame.bits)]
        if samples[0]:
            continue
        bits = samples[1 : 1 + frame.data_bits]
        flaw: Flaw = ""
        if not samples[1 + frame.data_bits + (frame.parity != "none")]:
            flaw = "framing"
        elif frame.parity != "none" and (sum(bits) + samples[1 + frame.data_bits]) % 2 != (frame.parity == "odd"):
            flaw = "parity"
        free_s = at_s + (frame.bits - 1 + SAMPLED_AT) * bit_s
        characters.append((free_s, sum(bit << n for n, bit in enumerate(bits)), flaw))
    return tuple(characters)


def _edges(data: bytes, sent: LineSettings) -> list[tuple[float, int]]:
    """(time in s, new level) of every change on the line, which is 1 at rest."""
    edges: list[tuple[float, int]] = []
    level, bit_s = 1, 1 / sent.baud
    for index, value in enumerate(data):
        for position, bit in enumerate(_bits(value, sent.frame)):
            if bit != level:
                edges.append(((index * sent.frame.bits + position) * bit_s, bit))
                level = bit
    return edges


def _bits(value: int, frame: Frame) -> list[int]:
    data = [value >> n & 1 for n in range(frame.data_bits)]
    parity = {"none": [], "even": [sum(data) % 2], "odd": [1 - sum(data) % 2]}[frame.parity]
    return [0, *data, *parity, *[1] * frame.stop_bits]
