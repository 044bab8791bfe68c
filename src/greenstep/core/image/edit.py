"""Changed images: bytes inserted, cut out, moved, gaps filled. Each function returns a new image; the given one is
unchanged."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from .model import Image, Piece, Section

HIGHEST = 1 << 32
LARGEST_FILL_BYTES = 256 << 20


def with_bytes(image: Image, address: int, data: bytes) -> Image:
    """The image with `data` at `address`, replacing what it held there or adding to it."""
    if not data:
        return image
    end = address + len(data)
    low, high = address, end
    around: list[Piece] = []
    others = []
    for piece in image.pieces:
        if piece.address <= end and address <= piece.end:
            around.append(piece)
            low, high = min(low, piece.address), max(high, piece.end)
        else:
            others.append(piece)
    body = bytearray(high - low)
    for piece in [*around, Piece(address, data)]:
        body[piece.address - low : piece.end - low] = piece.data
    return _with_pieces(image, [*others, Piece(low, bytes(body))])


def cut_out(image: Image, start: int, end: int) -> Image:
    """The bytes from `start` to before `end`; possibly no piece at all."""
    pieces = []
    for piece in image.pieces:
        low, high = max(piece.address, start), min(piece.end, end)
        if low < high:
            pieces.append(Piece(low, piece.data[low - piece.address : high - piece.address]))
    inside = tuple(section for section in image.sections if section.address < end and start < section.end)
    return replace(image, pieces=tuple(pieces), sections=inside)


def moved(image: Image, distance: int) -> Image:
    """The image moved up (or down) by that many bytes; its start address moves along if it lay inside. Raises
    ValueError if it would leave the 32-bit addresses."""
    if image.lowest + distance < 0 or image.end + distance > HIGHEST:
        raise ValueError("it would lie outside of addresses 00000000-FFFFFFFF")
    start = image.start
    if start is not None and image.touches(start & ~1, 1):
        start += distance
    return replace(
        image,
        pieces=tuple(replace(piece, address=piece.address + distance) for piece in image.pieces),
        sections=tuple(Section(s.name, s.address + distance, s.size) for s in image.sections),
        start=start,
    )


def filled(image: Image, fill: int, start: int | None = None, end: int | None = None) -> Image:
    """One piece from `start` (the lowest address) to before `end` (the highest), every gap as `fill`; anything
    outside stays. Raises ValueError for more than LARGEST_FILL_BYTES of filling."""
    low = image.lowest if start is None else start
    high = image.end if end is None else end
    if high <= low:
        raise ValueError("there is nothing to fill: the end lies before the start")
    held = sum(len(piece.data) for piece in cut_out(image, low, high).pieces)
    if high - low - held > LARGEST_FILL_BYTES:
        raise ValueError(f"{high - low - held:,} bytes of filling")
    outside = [*cut_out(image, 0, low).pieces, *cut_out(image, high, HIGHEST).pieces]
    return _with_pieces(image, [*outside, Piece(low, image.cut(low, high - low, fill))])


def _with_pieces(image: Image, pieces: Iterable[Piece]) -> Image:
    """The image with these pieces, which do not overlap; those that touch are merged."""
    joined: list[Piece] = []
    for piece in sorted(pieces, key=lambda one: one.address):
        if joined and joined[-1].end == piece.address:
            joined[-1] = Piece(joined[-1].address, joined[-1].data + piece.data)
        else:
            joined.append(piece)
    return replace(image, pieces=tuple(joined))
