"""The sums that a family's boot ROM looks for, made anew in an image that was changed: an ESP's checksum and SHA-256,
an LPC's vector checksum, a PIC18's jumps; each as an upload would put them in."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from .chips import Part
from .dialects.dialect import Dialect
from .image import Image
from .image.boot_header import HeaderError, read_header, rewritten
from .image.edit import with_bytes
from .image.origin import Origin
from .quantities import show_address
from .wishes import DESPITE


def renew_headers(image: Image, origins: Sequence[Origin]) -> tuple[Image, tuple[str, ...]]:
    """Boot headers' sums made anew; `origins` were found before the image was changed. Returns notes."""
    notes = []
    for origin in origins:
        if origin.header is None or not image.covers(origin.address, origin.header.length):
            continue
        extended = origin.header.chip_id is not None
        data = image.cut(origin.address, origin.header.length, 0xFF)
        place = show_address(origin.address)
        try:
            renewed = rewritten(data, extended, None, None, None)
        except HeaderError as error:
            notes.append(f"the boot header at {place} is none any more: {error}")
            continue
        if renewed == data:
            notes.append(f"the sums of the boot header at {place} were right")
            continue
        hashed = " and SHA-256" if read_header(renewed, extended).hashed else ""
        notes.append(f"boot header at {place}: checksum{hashed} made anew")
        image = with_bytes(image, origin.address, renewed)
    return image, tuple(notes)


def fitted(
    image: Image, part: Part, dialect: type[Dialect], settings: Mapping[str, Any]
) -> tuple[Image, tuple[str, ...]]:
    """The image as an upload to the part would write it, refusals gone past. Returns notes; raises RefusedFault for
    what cannot be gone past."""
    changed = dialect.fit(part, {"flash": image}, settings, frozenset(DESPITE))
    here = "; the file stays as it is"  # an upload's words, and not so of a file that is being made
    return changed.images["flash"], tuple(note.removesuffix(here) for note in changed.notes)
