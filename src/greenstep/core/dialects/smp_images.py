"""A signed image as SMP uploads it: header, program, and after it tagged values, among them the hash by which the
slot reports it (image format of the open boot loader that most of these boards have, "Image format")."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator

from ..frozen import frozen

MAGIC = bytes.fromhex("3DB8F396")
_HEADER_BYTES = 32
_PLAIN_TAGS, _PROTECTED_TAGS = 0x6907, 0x6908
_ENCRYPTED = 0x4 | 0x8
"""Flags of the header: encrypted by AES with a key of 128 or 256 bits."""
_HASHES = {0x10: "sha256", 0x11: "sha384", 0x12: "sha512"}


class SignedImageError(ValueError):
    """Bytes that are no signed image; the message says what was expected."""


@frozen
class SignedImage:
    """`digest` is the hash that its tags tell, `right` whether it is that of the program, as far as that can be
    computed: an encrypted image tells the hash of the plain one. `length` its bytes with all tags; `hash_end` is
    where the tag with the hash ends: what follows, the signature, is in no hash."""

    version: str
    digest: bytes
    right: bool
    length: int
    hash_end: int
    encrypted: bool = False


def read_signed(data: bytes) -> SignedImage:
    """The signed image at the beginning of `data`. Raises SignedImageError."""
    if data[:4] != MAGIC or len(data) < _HEADER_BYTES:
        raise SignedImageError(
            f"it begins with {data[:4].hex(' ').upper() or 'nothing'}, a signed image with 3D B8 F3 96"
        )
    head, protected = (int.from_bytes(data[at : at + 2], "little") for at in (8, 10))
    end = head + int.from_bytes(data[12:16], "little")
    major, minor, revision = data[20], data[21], int.from_bytes(data[22:24], "little")
    hashed = end + protected
    if protected:
        _area(data, end, _PROTECTED_TAGS)
    length = _area(data, hashed, _PLAIN_TAGS)
    told = next((found for found in _tags(data, hashed, length) if found[0] in _HASHES), None)
    if told is None:
        raise SignedImageError("no hash among its tags")
    tag, digest, hash_end = told
    encrypted = bool(int.from_bytes(data[16:20], "little") & _ENCRYPTED)
    right = encrypted or hashlib.new(_HASHES[tag], data[:hashed]).digest() == digest
    return SignedImage(f"{major}.{minor}.{revision}", digest, right, length, hash_end, encrypted)


def _area(data: bytes, at: int, magic: int) -> int:
    """The end of an area of tags. Raises SignedImageError."""
    if len(data) < at + 4 or int.from_bytes(data[at : at + 2], "little") != magic:
        raise SignedImageError(f"no tags at {at:X}, behind its program: it is not signed, or cut short")
    end = at + int.from_bytes(data[at + 2 : at + 4], "little")
    if len(data) < end:
        raise SignedImageError(f"its tags reach to {end:X}, the file to {len(data):X}")
    return end


def _tags(data: bytes, at: int, end: int) -> Iterator[tuple[int, bytes, int]]:
    """(tag, value, where it ends)."""
    at += 4
    while at + 4 <= end:
        value_end = at + 4 + int.from_bytes(data[at + 2 : at + 4], "little")
        yield int.from_bytes(data[at : at + 2], "little"), data[at + 4 : value_end], value_end
        at = value_end
