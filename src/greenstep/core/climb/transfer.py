"""What is written to a known chip: the plan, and the precautions that nothing else is lost."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import field

from ..chips import Memory, Part
from ..dialects.dialect import Dialect
from ..frozen import changing, frozen
from ..image import Image, Piece
from ..image.granules import Granules, Remembered, granules_of
from ..plan import MemoryPlan, Plan
from ..recording_link import RecordingLink
from ..spans import Span, merged
from .job import Job
from .session import Session


@frozen
class Trusted:
    """How many bytes were taken from the journal, and how many of them were read to check it."""

    remembered: Remembered
    size_bytes: int
    sampled_bytes: int


@frozen
class Witness:
    """A place that must not be erased along with the rest, and what it held before."""

    memory: Memory
    place: Span
    shown: bytes


@changing
class Transfer:
    """`written` are the images as fitted by the dialect, by memory name. `plan` is what is left to do; `whole`, the
    plan before it was narrowed to what differs, None if nothing was compared. `before` is what the first bytes held.
    `kept` was read to be written back. `witnesses` are None until they are known.
    `acknowledged` are the blocks that the chip has acknowledged, by memory name and address."""

    session: Session
    plan: Plan
    written: dict[str, Image] = field(default_factory=dict)
    whole: Plan | None = None
    trusted: Trusted | None = None
    before: bytes = b""
    kept: tuple[Piece, ...] = ()
    witnesses: list[Witness] | None = None
    acknowledged: set[tuple[str, int]] = field(default_factory=set)

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

    def fills_of(self, plan: MemoryPlan) -> tuple[Span, ...]:
        """What this run writes to a memory beyond its image, to fill pages and blocks."""
        if self.job.purpose == "verify":
            return ()
        return next((own.fills for own in self.plan.memories if own.memory.name == plan.memory.name), ())

    def proofs_of(self, plan: MemoryPlan) -> Sequence[Span]:
        """What verify reads of a memory: the image, and what was written to fill its pages and blocks."""
        fills = self.fills_of(plan)
        return merged([*plan.checks, *fills]) if fills else plan.checks

    @property
    def granules(self) -> Granules | None:
        """The write units of the flash image; None if there is none."""
        image = self.written.get("flash")
        return None if image is None else granules_of(image, self.part.flash.erased)
