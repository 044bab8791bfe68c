"""Raw binary: bytes without addresses."""

from __future__ import annotations

from .model import Image, ImageFault, Piece


def read_raw(data: bytes, name: str, base: int) -> Image:
    """The bytes of a file, placed from address `base` on. Raises ImageFault if there are none."""
    if not data:
        raise ImageFault(name, None, "the file is empty", "at least one byte", key="image-empty")
    return Image(name, (Piece(base, data),), format="raw binary")
