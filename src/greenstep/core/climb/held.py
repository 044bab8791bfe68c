"""Which version the chip holds before an upload, or when it is only looked at."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from ..dialects.errors import DialectError
from ..image import Image, Piece
from ..image.granules import Remembered, granules_of
from ..spans import Span, pieces_of
from ..versions import Version, found_in, heard_in, number_in, version_text
from .session import Session

_AROUND = 512
"""Bytes that are read before and behind the place of the new image's version: the old one is rarely far from it."""
_SAMPLES = 3
"""Stretches that the journal's word is checked with."""


def held_version(session: Session, image: Image | None) -> Version | None:
    """By its text in the memory, in what was heard before the reset, or by the journal; None if nothing tells.
    `image` is the one that is to be written or compared, if there is one. Changes nothing; raises DialectError if the
    conversation breaks off."""
    remembered = session.remembered()
    text = version_text(image) if image is not None else None
    like = text.text if text is not None else remembered.version if remembered else ""
    heard = heard_in(session.notes.before + session.notes.answers, like)
    if heard is not None:
        return _with_row(heard, remembered)
    if text is not None and (read := _read_around(session, text.address, like)) is not None:
        return _with_row(read, remembered)
    if remembered is None:
        return None
    agreed = _agrees(session, remembered)
    if agreed is False:
        return None
    known = Version(
        number_in(remembered.version), remembered.version, remembered.image, remembered.at, remembered.number
    )
    return replace(known, known="journal" if agreed else "unchecked")


def _with_row(found: Version, remembered: Remembered | None) -> Version:
    """With the row of the journal that tells of the same version."""
    if remembered is None or remembered.version != found.text:
        return found
    return replace(found, image=remembered.image, at=remembered.at, journal=remembered.number)


def _may_read(session: Session) -> bool:
    spec = session.job.dialect.spec
    return spec.reads and not spec.reads_slowly and not spec.into_ram and not spec.shows_sums_only


def _read_around(session: Session, address: int, like: str) -> Version | None:
    flash = session.part.flash
    place = Span(max(flash.usable.start, address - _AROUND), min(flash.usable.end, address + len(like) + _AROUND))
    if not _may_read(session) or place.size <= 0 or not flash.usable.covers(place):
        return None
    return found_in(_read(session, place), like)


def _read(session: Session, place: Span) -> Iterator[Piece]:
    """In one piece, as the block size allows."""
    flash = session.part.flash
    data = b"".join(
        session.dialect.read(flash, block.start, block.size)
        for block in pieces_of([place], session.dialect.read_block(flash))
    )
    yield Piece(place.start, data)


def _agrees(session: Session, remembered: Remembered) -> bool | None:
    """Whether some stretches of the flash are as the journal has them; None if the chip cannot be read soon."""
    flash, granules = session.part.flash, remembered.granules
    places = [Span.of(address, granules.step) for address in sorted(granules.digests)]
    shown = [place for place in places if flash.usable.covers(place)]
    if not _may_read(session) or not shown:
        return None
    step = max(1, len(shown) // _SAMPLES)
    for place in shown[::step][:_SAMPLES]:
        held = Image("", tuple(_read(session, place)))
        if granules_of(held, flash.erased).digests.get(place.start) != granules.digests[place.start]:
            return False
    return True


def noted(session: Session, image: Image | None) -> Version | None:
    """The same, where it is only for information: a conversation that breaks off tells nothing."""
    try:
        return held_version(session, image)
    except DialectError:
        return None
