"""What a UART receives of a character that was sent at another rate or in another frame."""

from __future__ import annotations

from typing import Literal

from greenstep.core.link import Frame, LineSettings

RATE_TOLERANCE = 0.03
"""Relative difference of the two rates up to which characters arrive whole."""


SAMPLED_AT = 8.5 / 16
"""Where in a bit a receiver looks that takes the majority of samples 8, 9 and 10 of 16."""


def same_language(one: LineSettings, other: LineSettings) -> bool:
    return one.frame == other.frame and abs(one.baud / other.baud - 1) <= RATE_TOLERANCE


Flaw = Literal["", "parity", "framing"]


def received(data: bytes, sent: LineSettings, receiver: LineSettings) -> list[tuple[float, int, Flaw]]:
    """(time in s from the first edge, value, flaw) of each character that the receiver makes of `data`,
    sent back to back. A wrong stop bit is told before a wrong parity."""
    edges = _edges(data, sent)
    bit_s = 1 / receiver.baud
    frame = receiver.frame
    characters: list[tuple[float, int, Flaw]] = []
    free_s = 0.0
    for at_s, level in edges:
        if level or at_s < free_s:
            continue
        samples = [_level(edges, at_s + (n + SAMPLED_AT) * bit_s) for n in range(frame.bits)]
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
    return characters


def _edges(data: bytes, sent: LineSettings) -> list[tuple[float, int]]:
    """(time in s, new level) of every change on the line, which rests at 1."""
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


def _level(edges: list[tuple[float, int]], at_s: float) -> int:
    """The level at a time, by bisection: edges are sorted."""
    low, high = 0, len(edges)
    while low < high:
        middle = (low + high) // 2
        if edges[middle][0] <= at_s:
            low = middle + 1
        else:
            high = middle
    return edges[low - 1][1] if low else 1
