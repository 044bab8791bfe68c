"""What an image is like: how much is blank, how mixed its bytes are, texts that look like a version or a date.

Made for images of many MiB: everything is counted by arrays, and texts are looked for where a date or a version can
be, never in every run of letters.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice
from typing import Literal

import numpy as np
import numpy.typing as npt

from .model import Image, Piece
from .origin import Origin, origins_of

_LINE = 16
_COUNTED_AT_ONCE = 1 << 18
_LARGEST_GAP_BYTES = 256 << 20
_MOST_TEXTS = 100
_MOST_TRIED = 20_000  # a table of numbers as text has no end of candidates
_READABLE = bytes(range(32, 127))
_LONGEST_TEXT = 64
_SHORTEST_TEXT = 6
_MONTH = rb"(?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)"
_DATE = re.compile(
    rb"(?<!\d)(?:19|20)\d\d[-/.](?:0[1-9]|1[0-2])[-/.](?:0[1-9]|[12]\d|3[01])(?!\d)"
    rb"|" + _MONTH + rb" [ 0123]\d (?:19|20)\d\d|(?<!\d)[0-3]\d[- ]" + _MONTH + rb"[- ](?:19|20)\d\d"
)
_TIME = re.compile(rb"(?<!\d)(?:[01]\d|2[0-3]):[0-5]\d:[0-5]\d(?!\d)")
_VERSION = re.compile(rb"(?<![\d.])[vV]?\d{1,4}\.\d{1,4}(?:\.\d{1,5}){0,2}(?![\d.])")
_WORD = re.compile(rb"[A-Za-z]{2}")
_SEPARATORS = bytes(byte in b".-/:" for byte in range(256))
"""As a table of translation: 1 for a separator, else 0."""
_LOOKED_AT_ONCE = 1 << 19


@dataclass(frozen=True)
class Text:
    """A readable stretch that holds what looks like a version, or a date of building."""

    address: int
    text: str
    kind: Literal["version", "date"]


@dataclass(frozen=True)
class Digest:
    """CRC-32 (IEEE 802.3) and SHA-256 of an image: from its lowest to its highest byte, gaps as `fill`, unless
    `gaps_left_out`: then of the bytes it holds, in order."""

    crc32: int
    sha256: str
    fill: int
    gaps_left_out: bool


@dataclass(frozen=True)
class Look:
    """`blank_share` (0 to 1) is that of lines of 16 bytes which are blank throughout; `entropy` is in bits a byte
    (0 to 8). `texts` are at most 100."""

    digest: Digest
    blank_share: float
    entropy: float
    texts: tuple[Text, ...]
    origins: tuple[Origin, ...]


def look_into(image: Image, fill: int = 0xFF) -> Look:
    """Everything that the content says of itself. `fill` is the value of an erased byte."""
    counts = np.zeros(256, np.int64)
    blank = lines = 0
    texts: list[Text] = []
    for piece in image.pieces:
        data = np.frombuffer(piece.data, np.uint8)
        counts += _counts(data)
        whole = data[: len(data) // _LINE * _LINE].view(np.uint64).reshape(-1, 2)
        pattern = np.uint64(int.from_bytes(bytes([fill]) * 8, "little"))
        blank += int(np.count_nonzero((whole[:, 0] == pattern) & (whole[:, 1] == pattern)))
        rest = data[len(whole) * _LINE :]
        blank += int(len(rest) > 0 and bool((rest == fill).all()))
        lines += -(-len(data) // _LINE)
        texts += islice(_texts(piece), _MOST_TEXTS - len(texts))
    return Look(
        digest_of(image, fill),
        blank / lines,
        _entropy(counts),
        tuple(texts),
        origins_of(image),
    )


def digest_of(image: Image, fill: int = 0xFF) -> Digest:
    """CRC and SHA of an image, without its gaps where those are enormous."""
    gaps = image.end - image.lowest - image.size_bytes
    if gaps > _LARGEST_GAP_BYTES:
        image = _without_gaps(image)
    sha, at = hashlib.sha256(), image.lowest
    for piece in image.pieces:
        gap = piece.address - at
        while gap > 0:
            step = min(gap, 1 << 20)
            sha.update(bytes([fill]) * step)
            gap -= step
        sha.update(piece.data)
        at = piece.end
    return Digest(image.crc32(fill), sha.hexdigest(), fill, gaps > _LARGEST_GAP_BYTES)


def _without_gaps(image: Image) -> Image:
    return Image(image.name, (Piece(0, b"".join(piece.data for piece in image.pieces)),))


def _counts(data: npt.NDArray[np.uint8]) -> npt.NDArray[np.int64]:
    """How often each byte stands there. Counting pairs takes half as long, and is worth it for a large piece."""
    counts = np.bincount(data[len(data) // 2 * 2 :], minlength=256)
    if len(data) < _COUNTED_AT_ONCE:
        return counts + np.bincount(data[: len(data) // 2 * 2], minlength=256)
    pairs = np.zeros(1 << 16, np.int64)
    words = data[: len(data) // 2 * 2].view(np.uint16)
    for at in range(0, len(words), _COUNTED_AT_ONCE):
        pairs += np.bincount(words[at : at + _COUNTED_AT_ONCE], minlength=1 << 16)
    table = pairs.reshape(256, 256)
    total: npt.NDArray[np.int64] = counts + table.sum(axis=0) + table.sum(axis=1)
    return total


def _entropy(counts: npt.NDArray[np.int64]) -> float:
    """Shannon's, in bits a byte."""
    shares = counts[counts > 0] / counts.sum()
    return float(abs((shares * np.log2(shares)).sum()))


def _texts(piece: Piece) -> Iterator[Text]:
    """Readable stretches around what may be a version or a date, in order of address."""
    done = tried = 0
    for at in _candidates(piece.data):
        if at < done:
            continue
        tried += 1
        if tried > _MOST_TRIED:
            return
        low, high = _stretch(piece.data, at)
        done = high
        stretch = piece.data[low:high]
        if len(stretch) < _SHORTEST_TEXT and stretch[:1] not in (b"v", b"V"):
            continue
        kind = _kind(stretch)
        if kind is not None:
            yield Text(piece.address + low, stretch.decode("ascii"), kind)


def _candidates(data: bytes) -> Iterator[int]:
    """Where a digit stands before and behind a point, a dash, a slash, a colon, or '20' behind a blank or a dash;
    looked for a stretch at a time, for whoever has enough after a few."""
    for begin in range(0, len(data), _LOOKED_AT_ONCE):
        part = data[begin : begin + _LOOKED_AT_ONCE + 2]
        if len(part) < 4:
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


def _stretch(data: bytes, at: int) -> tuple[int, int]:
    """The readable run around a place, cut to a length that can be shown."""
    before = data[max(0, at - _LONGEST_TEXT) : at]
    low = at - (len(before) - len(before.rstrip(_READABLE)))
    behind = data[at : at + _LONGEST_TEXT]
    return low, at + len(behind) - len(behind.lstrip(_READABLE))


def _kind(stretch: bytes) -> Literal["version", "date"] | None:
    if _DATE.search(stretch) or _TIME.search(stretch):
        return "date"
    if _VERSION.search(stretch) and (_WORD.search(stretch) or stretch[:1] in (b"v", b"V")):
        return "version"
    return None
