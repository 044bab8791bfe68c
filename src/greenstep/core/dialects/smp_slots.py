"""The slots that an SMP server lists, and the place that an upload goes to."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ..frozen import frozen

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
