"""A number that the chip gives of itself, compared with the part that was declared."""

from __future__ import annotations

from collections.abc import Collection

from ..chips import Catalogue, Part
from ..errors import RefusedFault


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
