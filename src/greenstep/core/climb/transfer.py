"""What is written to a chip that is known: the plan, and what is done so that nothing else is lost."""

from __future__ import annotations

from dataclasses import field

from ..chips import Memory, Part
from ..dialects.dialect import Dialect
from ..frozen import changing, frozen
from ..image import Image, Piece
from ..image.granules import Granules, Remembered, granules_of
from ..plan import Plan
from ..recording_link import RecordingLink
from ..spans import Span
from .job import Job
from .session import Session


@frozen
class Trusted:
    """What of the journal was believed, for so many bytes, of which some were read to see that it may be."""

    remembered: Remembered
    size_bytes: int
    sampled_bytes: int


@frozen
class Witness:
    """A place that must not be erased along, and what it showed before."""

    memory: Memory
    place: Span
    shown: bytes


@changing
class Transfer:
    """`written` are the images as the dialect made them fit, by memory name. `plan` is what is left to do; `whole`,
    the plan before it was narrowed to what differs, None where nothing was compared. `before` is what the first bytes
    held. `kept` was read to be written back. `witnesses` are None until they are known."""

    session: Session
    plan: Plan
    written: dict[str, Image] = field(default_factory=dict)
    whole: Plan | None = None
    trusted: Trusted | None = None
    before: bytes = b""
    kept: tuple[Piece, ...] = ()
    witnesses: list[Witness] | None = None

    @property
    def job(self) -> Job:
        return self.session.job

    @property
    def link(self) -> RecordingLink:
        return self.session.link

    @property
    def dialect(self) -> Dialect:
        return self.session.dialect

    @property
    def part(self) -> Part:
        return self.plan.part

    @property
    def granules(self) -> Granules | None:
        """Of the flash image as it is written; None where none is."""
        image = self.written.get("flash")
        return None if image is None else granules_of(image, self.part.flash.erased)
