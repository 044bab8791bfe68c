"""What a dialect reports of a chip, and of what it would do to one; and a number that the chip gives of itself,
compared with the part that was declared."""

from __future__ import annotations

from collections.abc import Collection
from typing import TYPE_CHECKING

from ..chips.catalogue import Catalogue
from ..chips.part import Part
from ..errors import RefusedFault
from ..frozen import frozen
from ..image import Piece
from ..spans import Span

if TYPE_CHECKING:
    from ..chips.part import Part
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


OneFitted = tuple["Image", tuple[str, ...]]
"""An image as it will be written, and what was changed in words."""


@frozen
class Provable:
    """What of a memory can be proven, and what is left out and why, in words. `sample_of`: how many bytes this is a
    sample of; else 0."""

    spans: tuple[Span, ...]
    left_out: str = ""
    sample_of: int = 0


def refuse_another(part: Part, dialect: str, told: int, also_accepts: Collection[int], key: str = "device") -> str:
    """Raises RefusedFault if `told` is not the number in the part's record (`extra`, under `key`) but another
    record's. A number that no record has decides nothing. Returns it in words."""
    own = part.extra.get(key)
    if own == told or told in also_accepts:
        return f"{told:X}"
    other = Catalogue.load().first(dialect, lambda one: one.extra.get(key) == told)
    if other is None:
        return f"{told:X}, of no part here"
    raise RefusedFault.of(
        "other-chip",
        f"the chip is another one: a {other.title}, and {part.title} was declared",
        (f"it tells the number {told:X}",),
        (f"--chip {other.name}", f"if you know better: --also-accept 0x{told:X}"),
        "certain",
    )
