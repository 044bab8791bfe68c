"""An image as rows of bytes to read: blank rows folded, gaps shown."""

from __future__ import annotations

from collections.abc import Iterator

from ..frozen import frozen
from .model import Image

ROW_BYTES = 16
_FOLDED_ROWS = 3
"""At least this many equal blank rows become one line."""


@frozen
class ListingRow:
    """`data` begins at `address`, which is a multiple of 16 except for the first row of a piece."""

    address: int
    data: bytes


@frozen
class Fold:
    """`size` bytes from `address` which are all `value`; None if the image holds nothing there."""

    address: int
    size: int
    value: int | None


def rows_of(image: Image, start: int, end: int, folds: tuple[int, ...] = (0xFF, 0x00)) -> Iterator[ListingRow | Fold]:
    """The rows from `start` to before `end`. Runs of rows that consist of one of `folds` are folded; gaps between
    pieces always."""
    last: int | None = None
    for piece in image.pieces:
        low, high = max(piece.address, start), min(piece.end, end)
        if low >= high:
            continue
        if last is not None:
            yield Fold(last, low - last, None)
        yield from _piece_rows(piece.data[low - piece.address : high - piece.address], low, folds)
        last = high


def _piece_rows(data: bytes, address: int, folds: tuple[int, ...]) -> Iterator[ListingRow | Fold]:
    at = 0
    while at < len(data):
        size = min(len(data) - at, ROW_BYTES - (address + at) % ROW_BYTES)
        value = data[at]
        if size == ROW_BYTES and value in folds:
            whole = _equal_rows(data, at) * ROW_BYTES
            if whole >= _FOLDED_ROWS * ROW_BYTES:
                yield Fold(address + at, whole, value)
                at += whole
                continue
        yield ListingRow(address + at, data[at : at + size])
        at += size


def _equal_rows(data: bytes, at: int) -> int:
    """How many whole rows from `at` on consist of the byte at `at`."""
    row = bytes([data[at]]) * ROW_BYTES
    number = 0
    while data[at + number * ROW_BYTES : at + (number + 1) * ROW_BYTES] == row:
        number += 1
    return number
