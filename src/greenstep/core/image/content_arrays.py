"""Counting and searching large images with arrays: loaded only for those."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

_COUNTED_AT_ONCE, _LOOKED_AT_ONCE = 1 << 18, 1 << 20
_SEPARATORS = bytes(value in b"-./:" for value in range(256))
_LINE = 16


def byte_counts(data: bytes) -> list[int]:
    """How often each of the 256 values occurs. Counting pairs takes half as long as counting bytes."""
    values = np.frombuffer(data, np.uint8)
    even = len(values) // 2 * 2
    pairs = np.zeros(1 << 16, np.int64)
    words = values[:even].view(np.uint16)
    for at in range(0, len(words), _COUNTED_AT_ONCE):
        pairs += np.bincount(words[at : at + _COUNTED_AT_ONCE], minlength=1 << 16)
    table = pairs.reshape(256, 256)
    total = np.bincount(values[even:], minlength=256) + table.sum(axis=0) + table.sum(axis=1)
    return [int(number) for number in total]


def blank_lines(data: bytes, fill: int) -> int:
    """How many whole lines of 16 bytes are entirely `fill`."""
    lines = np.frombuffer(data, np.uint64, len(data) // _LINE * 2).reshape(-1, 2)
    pattern = np.uint64(int.from_bytes(bytes([fill]) * 8, "little"))
    return int(np.count_nonzero((lines[:, 0] == pattern) & (lines[:, 1] == pattern)))


def candidates(data: bytes) -> Iterator[int]:
    """Where a digit stands before and after a point, a dash, a slash, a colon, or '20' after a space or a dash;
    searched a stretch at a time, for callers that need only a few."""
    for begin in range(0, len(data), _LOOKED_AT_ONCE):
        part = data[begin : begin + _LOOKED_AT_ONCE + 2]
        if len(part) < 3:
            return
        values = np.frombuffer(part, np.uint8)
        between = np.flatnonzero(np.frombuffer(part.translate(_SEPARATORS), bool)[1:-1])
        between = between[_is_digit(values[between]) & _is_digit(values[between + 2])]
        twenty = np.flatnonzero(values[1:-1] == 0x32)
        year = twenty[(values[twenty + 2] == 0x30) & ((values[twenty] == 0x20) | (values[twenty] == 0x2D))]
        for place in np.union1d(between, year):
            yield begin + int(place)


def _is_digit(values: npt.NDArray[np.uint8]) -> npt.NDArray[np.bool_]:
    return (values >= 0x30) & (values <= 0x39)
