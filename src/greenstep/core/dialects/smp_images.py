"""A signed image as SMP uploads it: header, program, and after it tagged values, among them the hash by which the
slot reports it (image format of the open boot loader that most of these boards have, "Image format").

The slots that an SMP server lists, and the place that an upload goes to."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping
from typing import Any

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


Place = tuple[int, int]
"""(image, slot), from 0."""


@frozen
class Slots:
    """What was listed, a map of the server's own keys for each slot."""

    listed: tuple[Mapping[str, Any], ...] = ()

    @classmethod
    def of(cls, answer: Mapping[str, Any]) -> Slots:
        """From an answer to the question for the state of the images."""
        images = answer.get("images")
        return cls(tuple(slot for slot in images if isinstance(slot, dict)) if isinstance(images, list) else ())

    @property
    def run(self) -> bool:
        """Whether a running program has answered: recovery marks no image as active."""
        return any(slot.get("active") for slot in self.listed)

    def place_of(self, number: int) -> Place:
        """Where an upload with this image number goes. Recovery writes where the number says (0 and 1: the first
        slot)."""
        if self.run:
            return number, 1
        return (0, 0) if number < 2 else ((number - 1) // 2, (number - 1) % 2)

    def at(self, place: Place) -> Mapping[str, Any] | None:
        """What a slot holds; None if none is listed."""
        return next((slot for slot in self.listed if (slot.get("image", 0), slot.get("slot", 0)) == place), None)

    def active(self, image: int, digest: bytes) -> Mapping[str, Any] | None:
        """The slot that runs, if it tells this hash."""
        running = (slot for slot in self.listed if slot.get("active") and slot.get("image", 0) == image)
        return next((slot for slot in running if slot.get("hash") == digest), None)

    def is_pending(self, digest: bytes) -> bool:
        """Whether an image waits for the next reset."""
        return any(slot.get("pending") and slot.get("hash") == digest for slot in self.listed)

    @property
    def in_words(self) -> tuple[str, ...]:
        return tuple(_in_words(slot) for slot in self.listed)


def place_in_words(place: Place) -> str:
    image, slot = place
    return f"slot {slot}" + (f" of image {image}" if image else "")


def _in_words(slot: Mapping[str, Any]) -> str:
    digest = slot.get("hash")
    marks = [mark for mark in ("active", "confirmed", "pending", "permanent") if slot.get(mark)]
    shown = f"hash {digest.hex()[:8].upper()}…" if isinstance(digest, bytes) else "no hash"
    return ", ".join((f"slot {slot.get('slot', 0)}: version {slot.get('version', '?')}", shown, *marks))
