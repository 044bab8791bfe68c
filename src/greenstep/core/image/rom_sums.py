"""The sums that a family's boot ROM looks for, as an upload would fill them in: an ESP's checksum and SHA-256, an
LPC's vector checksum, a PIC18's jumps."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ..chips.part import Part
from ..dialects.dialect import Dialect
from ..plan.write_options import OVERRIDES
from . import Image


def fitted(
    image: Image, part: Part, dialect: type[Dialect], settings: Mapping[str, Any]
) -> tuple[Image, tuple[str, ...]]:
    """The image as an upload to the part would write it, overriding refusals. Returns notes; raises RefusedFault for
    what cannot be overridden."""
    changed = dialect.fit(part, {"flash": image}, settings, frozenset(OVERRIDES))
    here = "; the file stays unchanged"  # words of an upload, not true of a file that is being made
    return changed.images["flash"], tuple(note.removesuffix(here) for note in changed.notes)
