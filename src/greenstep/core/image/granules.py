"""A small summary of an image: a digest for each stretch, to compare two builds without their bytes."""

from __future__ import annotations

import struct

from ..frozen import frozen
from .model import Image

_FINE, _COARSE = 256, 4096
_MOST_FINE_BYTES = 1 << 20
_HEAD, _ROW = struct.Struct("<4sI"), struct.Struct("<I8s")
_MAGIC = b"gsg1"


@frozen
class Granules:
    """`digests` by address, each of `step` bytes from a multiple of `step` on, gaps as the erased value."""

    step: int
    digests: dict[int, bytes]

    def same(self, other: Granules, address: int, size: int) -> bool:
        """Whether both hold the same in `size` bytes from `address`, as far as whole stretches tell."""
        if self.step != other.step:
            return False
        first = address // self.step * self.step
        places = range(first, address + size, self.step)
        return all(at in self.digests and self.digests[at] == other.digests.get(at) for at in places)

    def packed(self) -> bytes:
        """For storing: about a twentieth of the image."""
        rows = (_ROW.pack(address, digest) for address, digest in self.digests.items())
        return _HEAD.pack(_MAGIC, self.step) + b"".join(rows)


@frozen
class Remembered:
    """What, according to the journal's row `number`, was written to a chip's flash and proven: the version
    text in the `image`, and when (ISO 8601)."""

    number: int
    granules: Granules
    version: str = ""
    image: str = ""
    at: str = ""


def granules_of(image: Image, fill: int) -> Granules:
    """The digests of an image; `fill` is the value of an erased byte."""
    import hashlib  # imports a large library

    step = _FINE if image.size_bytes <= _MOST_FINE_BYTES else _COARSE
    digests: dict[int, bytes] = {}
    for piece in image.pieces:
        for at in range(piece.address // step * step, piece.end, step):
            if at not in digests:
                digests[at] = hashlib.blake2b(image.cut(at, step, fill), digest_size=8).digest()
    return Granules(step, digests)


def unpacked(data: bytes) -> Granules | None:
    """The inverse of `packed`; None if the bytes are something else."""
    if len(data) < _HEAD.size or (len(data) - _HEAD.size) % _ROW.size:
        return None
    magic, step = _HEAD.unpack_from(data)
    if magic != _MAGIC or not step:
        return None
    return Granules(step, dict(_ROW.iter_unpack(data[_HEAD.size :])))
