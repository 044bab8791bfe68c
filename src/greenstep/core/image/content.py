"""What an image is like: how much is blank, how mixed its bytes are, texts that look like a version or a date.

Made for images of many MiB: those are counted with arrays, and texts are searched where a date or a version can be,
not in every run of letters.
"""

from __future__ import annotations

import re
import zlib
from collections import Counter
from collections.abc import Iterator, Sequence
from itertools import islice
from math import log2
from typing import Literal

from ..families import origins_of
from ..families.family import Origin
from ..frozen import frozen
from .model import Image, Piece

_LINE = 16
_LARGEST_GAP_BYTES = 256 << 20
_MOST_TEXTS = 100
_MOST_TRIED = 20_000  # a table of numbers as text has candidates without end
_READABLE = bytes(range(32, 127))
_LONGEST_TEXT = 64
_SHORTEST_TEXT = 6
_SHORTEST_SEEN = 3
"""A digit, a sign and a digit: less is looked at by nothing."""
_MONTH = rb"(?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)"
_DATE = (  # compiled when a stretch is looked at, which may never happen
    rb"(?<!\d)(?:19|20)\d\d[-/.](?:0[1-9]|1[0-2])[-/.](?:0[1-9]|[12]\d|3[01])(?!\d)"
    rb"|" + _MONTH + rb" [ 0123]\d (?:19|20)\d\d|(?<!\d)[0-3]\d[- ]" + _MONTH + rb"[- ](?:19|20)\d\d"
)
_TIME = rb"(?<!\d)(?:[01]\d|2[0-3]):[0-5]\d:[0-5]\d(?!\d)"
_VERSION = rb"(?<![\d.])[vV]?\d{1,4}\.\d{1,4}(?:\.\d{1,5}){0,2}(?![\d.])"
_WORD = rb"[A-Za-z]{2}"
_LIKELY = re.compile(rb"[0-9](?=[-./:][0-9])|[ -](?=20)")
ARRAYS_PAY_BYTES = 1 << 19
"""Fewer bytes than this are counted one by one in less time than it takes to import numpy."""


@frozen
class Text:
    """A readable stretch that holds what looks like a version or a build date."""

    address: int
    text: str
    kind: Literal["version", "date"]


@frozen
class Digest:
    """CRC-32 (IEEE 802.3) and SHA-256 of an image: from its lowest to its highest byte, gaps as `fill`, unless
    `gaps_left_out`: then of the bytes it holds, in order."""

    crc32: int
    sha256: str
    fill: int
    gaps_left_out: bool


@frozen
class Look:
    """`blank_share` (0 to 1) is the share of 16-byte lines that are entirely blank; `entropy` is in bits per byte (0
    to 8). `texts` are at most 100."""

    digest: Digest
    blank_share: float
    entropy: float
    texts: tuple[Text, ...]
    origins: tuple[Origin, ...]


def look_into(image: Image, fill: int = 0xFF) -> Look:
    """Everything that the content says about itself. `fill` is the value of an erased byte."""
    counts = [0] * 256
    blank = lines = 0
    texts: list[Text] = []
    small: list[bytes] = []
    blank_byte = bytes([fill])
    for piece in image.pieces:
        data = piece.data
        if len(data) < ARRAYS_PAY_BYTES:
            small.append(data)
        else:
            counts = _sums(counts, _counts(data))
        if len(data) >= _SHORTEST_SEEN:
            blank += _blank_lines(data, fill)
            lines += -(-len(data) // _LINE)
            texts += islice(_texts(piece), _MOST_TEXTS - len(texts))
    tiny = [data for data in small if len(data) < _SHORTEST_SEEN]
    lines += len(tiny)
    blank += tiny.count(blank_byte) + tiny.count(blank_byte * 2)
    counts = _sums(counts, _counts(b"".join(small)))
    return Look(digest_of(image, fill), blank / lines, _entropy(counts), tuple(texts), origins_of(image))


def digest_of(image: Image, fill: int = 0xFF) -> Digest:
    """CRC and SHA of an image, without its gaps if those are enormous."""
    gaps = image.end - image.lowest - image.size_bytes
    if gaps > _LARGEST_GAP_BYTES:
        image = _without_gaps(image)
    import hashlib  # imports a large library

    sha, crc = hashlib.sha256(), 0
    for data in image.filled(fill):
        sha.update(data)
        crc = zlib.crc32(data, crc)
    return Digest(crc, sha.hexdigest(), fill, gaps > _LARGEST_GAP_BYTES)


def _sums(counts: list[int], more: list[int]) -> list[int]:
    return [one + other for one, other in zip(counts, more, strict=True)]


def _without_gaps(image: Image) -> Image:
    return Image(image.name, (Piece(0, b"".join(piece.data for piece in image.pieces)),))


def _counts(data: bytes) -> list[int]:
    """How often each byte value occurs."""
    if len(data) >= ARRAYS_PAY_BYTES:
        from .content_arrays import byte_counts

        return byte_counts(data)
    found = Counter(data)
    return [found[value] for value in range(256)]


def _blank_lines(data: bytes, fill: int) -> int:
    """How many lines of 16 bytes are entirely `fill`; a short last line counts too."""
    if len(data) < _LINE:
        return int(not data.strip(bytes([fill])))
    rest = data[len(data) // _LINE * _LINE :]
    last = int(bool(rest) and not rest.strip(bytes([fill])))
    if len(data) >= ARRAYS_PAY_BYTES:
        from .content_arrays import blank_lines

        return blank_lines(data, fill) + last
    blank = bytes([fill]) * _LINE
    return sum(data[at : at + _LINE] == blank for at in range(0, len(data), _LINE)) + last


def _entropy(counts: Sequence[int]) -> float:
    """Shannon entropy, in bits per byte."""
    total = sum(counts)
    return abs(sum(number / total * log2(number / total) for number in counts if number))


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
    """Where a digit stands before and after a point, a dash, a slash, a colon, or '20' after a space or a dash."""
    if len(data) >= ARRAYS_PAY_BYTES:
        from .content_arrays import candidates

        return candidates(data)
    return (found.start() for found in _LIKELY.finditer(data))


def _stretch(data: bytes, at: int) -> tuple[int, int]:
    """The readable run around a position, cut to a length that can be shown."""
    before = data[max(0, at - _LONGEST_TEXT) : at]
    low = at - (len(before) - len(before.rstrip(_READABLE)))
    behind = data[at : at + _LONGEST_TEXT]
    return low, at + len(behind) - len(behind.lstrip(_READABLE))


def _kind(stretch: bytes) -> Literal["version", "date"] | None:
    dated = (b"20" in stretch or b"19" in stretch) and re.search(_DATE, stretch)
    if dated or (b":" in stretch and re.search(_TIME, stretch)):
        return "date"
    if re.search(_VERSION, stretch) and (re.search(_WORD, stretch) or stretch[:1] in (b"v", b"V")):
        return "version"
    return None
