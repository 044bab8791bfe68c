"""What a dialect reports of a chip, and of what it would do to one."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..frozen import frozen
from ..image import Piece
from ..spans import Span

if TYPE_CHECKING:
    from ..chips import Part
    from ..image import Image


@frozen
class Identity:
    """Who answered: the number of the chip type (None if the loader does not report it), how that was said, and what
    else the loader reported."""

    ident: int | None
    said: str
    details: tuple[tuple[str, str], ...] = ()


@frozen
class Examination:
    """What the chip reports beyond its identity.

    `part` has the memory sizes of this very chip. `locked` is the refusal that shows it is locked against reading and
    writing, else empty.
    """

    part: Part
    details: tuple[tuple[str, str], ...] = ()
    unique_id: str = ""
    locked: str = ""


WriteBlock = Piece
"""Bytes for one write of the dialect, at an address."""


@frozen
class Fitted:
    """Images as they will be written, after the changes that the dialect must make, and those changes in words."""

    images: dict[str, Image]
    notes: tuple[str, ...] = ()


@frozen
class Provable:
    """What of a memory can be proven, and what is left out and why, in words. `sample_of`: how many bytes this is a
    sample of; else 0."""

    spans: tuple[Span, ...]
    left_out: str = ""
    sample_of: int = 0
