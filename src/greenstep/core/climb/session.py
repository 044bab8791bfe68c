"""A conversation with one chip over an open port. The port step makes it, and nothing in it is optional."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import field, replace

from ..chips import Part
from ..dialects.dialect import Dialect
from ..dialects.errors import ChipRefusal, ErasedByRefusal
from ..errors import RefusedFault
from ..events import Step
from ..findings.observations import Progress
from ..frozen import changing
from ..hookup import Driver, Sequence
from ..image import Piece
from ..image.granules import Remembered
from ..link import LineSettings, ResetBy
from ..recording_link import RecordingLink
from ..versions import Version
from .chip_state import MOVES, ChipState
from .job import Aside, Job
from .line_notes import LineNotes


def dialect_for(job: Job, link: RecordingLink) -> Dialect:
    """A new conversation."""
    dialect = job.dialect(link, job.wishes.settings)
    dialect.declared = job.choice.first
    dialect.also_accepts = job.also_accepts
    dialect.loader_is_said = job.bootloader_bytes is not None
    return dialect


@changing
class Session:
    """`part` is the declared one until the chip has identified itself (`known` then holds its number and its own
    number). `reset_by` says what reset the chip.

    `state` is what is known of the chip's content, `progress` how far a write has got, `acknowledged` how many erase
    units the chip said it has erased. `aside` is where bytes lie that must come back; `backup`, what was read.

    `unique_id` is the chip's own number; empty if it has none, or it is not known yet. `unproven` are steps that
    ended so; `partly` says how much of the image was seen in the chip, if that is not all: that the program runs
    (`text_heard`) proves what it runs through, and not the rest. `line` is what the conversation is held at once the
    chip is known; `settle_s` and `asks` are the pause after a reset and the number of questions with which it
    answered.

    `line_hurt`: something had to be repeated; `resumed`: how often the chip was reset and asked again; `slowed`: how
    often at a lower rate than the board's own.

    `shared_with` is what of the system itself uses the port. `held` is the version that the chip held before this
    run, if that is known; `recalled`, what the journal was asked for this chip, once. `doubts` are refusals of the
    image that the person overrode. `synced_at_s` is when the bootloader last answered. `hands_asked`: a person was
    asked to enter it. `back_mark`: the recording's event after which the boot pin was to be set back; None before
    that. `hands_left` are the moves still to be made.
    """

    job: Job
    link: RecordingLink
    driver: Driver
    dialect: Dialect
    notes: LineNotes
    opened_at_s: float
    part: Part
    line: LineSettings
    reset_by: ResetBy = ResetBy.HAND
    synced: bool = False
    known: tuple[int | None, str] | None = None
    unique_id: str = ""
    state: ChipState = ChipState.UNTOUCHED
    progress: Progress | None = None
    acknowledged: int = 0
    aside: Aside | None = None
    backup: tuple[Piece, ...] = ()
    unproven: list[Step] = field(default_factory=list)
    partly: str = ""
    text_heard: str = ""
    settle_s: float = 0.0
    asks: int = 2
    synced_at_s: float = 0.0
    held: Version | None = None
    shared_with: str = ""
    doubts: list[str] = field(default_factory=list)
    recalled: list[Remembered | None] = field(default_factory=list)
    hands_asked: bool = False
    back_mark: int | None = None
    hands_left: tuple[str, ...] = ()
    line_hurt: bool = False
    resumed: int = 0
    slowed: int = 0

    @classmethod
    def over(cls, job: Job, link: RecordingLink) -> Session:
        dialect = dialect_for(job, link)
        driver, notes = Driver(link, job.hookup, job.pins), LineNotes(link)
        return cls(job, link, driver, dialect, notes, link.now(), job.choice.first, job.settings)

    @property
    def first_settings(self) -> LineSettings:
        """Rate and frame for the first question; `line` may have to wait until the loader answers."""
        dialect = self.job.dialect
        baud = self.job.settings.baud if dialect.spec.is_told_rate else self.line.baud
        return replace(self.line, baud=dialect.first_baud(self.part, baud))

    @property
    def elapsed_s(self) -> float:
        return self.link.now() - self.opened_at_s

    @property
    def leave(self) -> Sequence | None:
        """The sequence that starts the program; None if no lines can."""
        return None if self.reset_by is ResetBy.HAND_WITHOUT_LINES else self.job.hookup.leave

    def remembered(self) -> Remembered | None:
        """What the journal knows of this chip, by its own number."""
        if not self.recalled:
            recall = self.job.recall
            known = recall(self.unique_id, self.part.name) if recall is not None and self.unique_id else None
            self.recalled.append(known)
        return self.recalled[0]

    def move_to(self, state: ChipState) -> None:
        assert state is self.state or state in MOVES[self.state], f"{self.state} does not lead to {state}"
        self.state = state

    @contextmanager
    def changing(self, state: ChipState) -> Iterator[None]:
        """A context around the commands that change the chip. If the chip refuses the first of them, it is as it
        was."""
        before = self.state
        self.move_to(state)
        try:
            yield
        except RefusedFault:  # the dialect itself, before it asked the chip for anything
            if state is ChipState.PROTECTING:
                self.state = before
            raise
        except ErasedByRefusal:
            self.state = ChipState.ERASING
            raise
        except ChipRefusal as refusal:
            refused_at_once = state is ChipState.ERASING or refusal.at_once
            if before is ChipState.UNTOUCHED and refused_at_once and not self.acknowledged:
                self.state = before
            raise
