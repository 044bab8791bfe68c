"""What loaders have in common that fill RAM and run it."""

from __future__ import annotations

from dataclasses import replace

from ..chips.part import Memory
from ..image import Image, Piece
from ..quantities import count

LOST = "goes into RAM: after the next reset it is gone, and what is in the flash runs"


def filled_from(image: Image, memory: Memory, unit: int) -> tuple[Image, tuple[str, ...]]:
    """The image as one piece from the memory's start on, with zeros in its gaps and to a multiple of `unit`; and how
    much was filled, in words. An image that reaches beyond is left as it is: it does not fit."""
    start = memory.start
    if image.lowest < start or image.end > memory.end:
        return image, ()
    size = -(-(image.end - start) // unit) * unit
    gaps = size - image.size_bytes
    if not gaps:
        return image, ()
    whole = replace(image, pieces=(Piece(start, image.cut(start, size, 0)),))
    return whole, (f"{count(gaps, 'byte')} filled with 00: it is loaded in one go",)
