"""The best legal use of a protocol, and what is written by it. A family brings its own in a file here: `cases()`."""

from __future__ import annotations

import importlib
import pkgutil
import random
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from greenstep.core.image import Image, Piece

BAUD = 115200
SIZE = 32768


@dataclass(frozen=True)
class Floor:
    """Characters both ways and their bits each, turnarounds, seconds of chip busy time, all at `baud`."""

    characters: float
    turnarounds: int
    busy_s: float
    bits: int = 10
    baud: int = BAUD

    @property
    def bits_s(self) -> float:
        return self.characters * self.bits / self.baud

    def seconds(self, turnaround_s: float) -> float:
        return self.bits_s + self.turnarounds * turnaround_s + self.busy_s


def full_image(image: Image, size: int) -> Image:
    """`size` bytes of the same with no blank room, so that nothing can be skipped."""
    piece = max(image.pieces, key=lambda piece: len(piece.data))
    source = random.Random(7)
    data = bytes(byte if byte not in (0x00, 0xFF) else source.randrange(1, 255) for byte in piece.data[512:size])
    return replace(image, pieces=(Piece(piece.address, piece.data[:512] + data),))


@dataclass(frozen=True)
class Case:
    board: str
    name: str
    image: Image
    floor: Floor
    options: dict[str, Any]


def brought() -> list[Case]:
    """Those of the files here."""
    modules = sorted(module.name for module in pkgutil.iter_modules(__path__))
    found: list[Callable[[], list[Case]]] = [
        importlib.import_module(f"{__name__}.{module}").cases for module in modules
    ]
    return [case for cases in found for case in cases()]
