"""What the steps of a climb have found out so far, and share."""

from __future__ import annotations

from dataclasses import field
from typing import Literal

from ..chips import Memory, Part
from ..dialects.base import Dialect
from ..events import Step
from ..findings import Progress
from ..frozen import changing
from ..hookup import Driver
from ..image import Image, Piece
from ..image.granules import Granules, Remembered, granules_of
from ..link import LineSettings
from ..plan import Plan
from ..recording import RecordingLink
from .job import Aside, Job, OpenLink


@changing
class Scene:
    """What the steps have found out so far.

    `changed` is the step that an upload is in since it began to change the chip. `sync_mark` and `listen_mark` are
    the recording's events from which on we asked, and from which on we only listened, to before `listen_end`.
    `hidden` is what of the image the chip cannot show, in words; that the program runs shows it.
    `kept` is what was read to be written back, and `aside` where it lies while the chip does not hold it.
    `behind`: (memory, address, bytes, what it showed) of places that must not be erased along, once that is known.
    `whole_plan` is the plan before it was narrowed; `line_hurt`: something had to be said again while writing.
    `resumed`: how often the chip was reset and asked anew; `known`: its number and its own number, as it told them.
    `written` are the images as the dialect made them fit, by memory name; `trusted` is what of the journal was
    believed, for `trusted_bytes`, of which `sampled_bytes` were read to see that it may be.
    `reheard`, `answered_at`, `answered_other`, `early` and `unasked_s` are as in `Observations`.
    """

    job: Job
    open_link: OpenLink
    link: RecordingLink | None = None
    driver: Driver | None = None
    dialect: Dialect | None = None
    lines: Literal["moved", "missing", "by hand"] = "by hand"
    opened_at_s: float = 0.0
    heard_before: bytes = b""
    sync_since_s: float = 0.0
    sync_mark: int = 0
    synced: bool = False
    part: Part | None = None
    plan: Plan | None = None
    progress: Progress | None = None
    before: bytes = b""
    unproven: list[Step] = field(default_factory=list)
    text_heard: str = ""
    changed: Step | Literal[""] = ""
    erased_units: int = 0
    differs: bool = False
    listen_mark: int | None = None
    listen_end: int | None = None
    reheard: tuple[LineSettings, bytes] | None = None
    answered_at: tuple[LineSettings, str] | None = None
    answered_other: tuple[str, str] | None = None
    early: bytes = b""
    unasked_s: float = 0.0
    missing_text: str = ""
    backup: tuple[Piece, ...] = ()
    unique_id: str = ""
    trusted: Remembered | None = None
    trusted_bytes: int = 0
    sampled_bytes: int = 0
    written: dict[str, Image] = field(default_factory=dict)
    whole_plan: Plan | None = None
    aside: Aside | None = None
    kept: tuple[Piece, ...] = ()
    hidden: str = ""
    behind: list[tuple[Memory, int, int, bytes]] | None = None
    line_hurt: bool = False
    resumed: int = 0
    known: tuple[int | None, str] = (None, "")

    @property
    def wire(self) -> RecordingLink:
        """The open link. Only steps after `port` may ask."""
        assert self.link is not None
        return self.link

    @property
    def talk(self) -> Dialect:
        """The dialect over the open link. Only steps after `port` may ask."""
        assert self.dialect is not None
        return self.dialect

    @property
    def granules(self) -> Granules | None:
        """Of the flash image as it is written; None before that is known, or where none is."""
        image = self.written.get("flash")
        return None if image is None or self.part is None else granules_of(image, self.part.flash.erased)

    @property
    def untouched(self) -> bool:
        """Whether the chip has not acknowledged any change of its content."""
        return not self.changed or (self.changed == "erase" and not self.erased_units)

    @property
    def elapsed_s(self) -> float:
        return self.link.now() - self.opened_at_s if self.link is not None else 0.0

    @property
    def ground(self) -> tuple[Part, Plan]:
        """The part and the plan. Only steps after `chip` may ask."""
        assert self.part is not None and self.plan is not None
        return self.part, self.plan
