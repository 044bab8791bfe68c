"""A conversation with one chip over an open port, and what is written to it. The port step makes the session, and
nothing in it is optional from then on; `LineNotes` is what was noted on the line for the rules that explain a
failure, `Transfer` a session with a plan."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import field, replace
from itertools import pairwise

from ..chips.part import Memory, Part
from ..dialects.dialect import Dialect
from ..dialects.errors import ChipRefusal, ErasedByRefusal
from ..errors import RefusedFault
from ..events import Step
from ..findings.observations import Experiment, Progress
from ..frozen import changing, frozen
from ..hookup.drive import Driver
from ..hookup.sequence import Sequence
from ..image import Image, Piece
from ..image.granules import Granules, Remembered, granules_of
from ..image.versions import Version
from ..link import LineErrors, LineSettings, ResetBy
from ..plan.model import MemoryPlan, Plan
from ..spans import Span, merged
from ..trace.recording import RecordingLink
from .chip_state import MOVES, ChipState
from .job import Job, SafetyCopy


def dialect_for(job: Job, link: RecordingLink) -> Dialect:
    """A new conversation."""
    dialect = job.dialect(link, job.options.settings)
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
    aside: SafetyCopy | None = None
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


_PAUSE_S = 0.15
_LONGER = 1.5


@changing
class LineNotes:
    """Notes of one session; the bytes themselves are in its recording.

    `before` is what came before any line moved. `asked_since_s` and `asked_mark` are the time and the recording's
    event at which we began to ask; `listen_mark`, at which we began only to listen, until before `listen_end`.
    `early` came before the first question, `unasked_s` after the last reset. `reheard` is what came at another rate,
    with the settings of the port; `answered_at`, the answer to a question at another rate; `answered_other`, the
    title of another dialect and the answer to a question in it. `missing_text` is the text that did not come in time.
    `tried` are the experiments made since, `first_errors` what the receiver had counted before them,
    `heard_meanwhile` what came while other dialects were tried.
    """

    link: RecordingLink
    before: bytes = b""
    asked_since_s: float = 0.0
    asked_mark: int = 0
    listen_mark: int | None = None
    listen_end: int | None = None
    early: bytes = b""
    unasked_s: float = 0.0
    reheard: tuple[LineSettings, bytes] | None = None
    answered_at: tuple[LineSettings, str] | None = None
    answered_other: tuple[str, str] | None = None
    missing_text: str = ""
    tried: list[Experiment] = field(default_factory=list)
    first_errors: LineErrors | None = None
    heard_meanwhile: bytes = b""

    def begin_asking(self) -> None:
        self.asked_since_s, self.asked_mark = self.link.now(), self.link.mark

    def begin_listening(self) -> None:
        self.listen_mark = self.link.mark

    def end_listening(self) -> None:
        self.listen_end = self.link.mark

    def forget_listening(self) -> None:
        self.listen_mark = self.listen_end = None

    @property
    def asked_s(self) -> float:
        """How long we have asked."""
        return self.link.now() - self.asked_since_s

    @property
    def sent(self) -> bytes:
        """What we asked."""
        return self.link.between(self.asked_mark, self.listen_mark, "sent")

    @property
    def answers(self) -> bytes:
        """What came while we asked."""
        return self.link.between(self.asked_mark, self.listen_mark, "heard")

    @property
    def after(self) -> bytes:
        """What came while we only listened."""
        return b"" if self.listen_mark is None else self.link.between(self.listen_mark, self.listen_end, "heard")

    @property
    def spoke(self) -> bool:
        """Whether anything came since we asked."""
        return self.link.first_at(self.asked_mark, "heard") is not None

    @property
    def quiet_s(self) -> float:
        """How long nothing came after we began to ask."""
        first = self.link.first_at(self.asked_mark, "heard")
        return (self.link.now() if first is None else first) - self.asked_since_s

    @property
    def began_anew(self) -> bool:
        """Whether the silence before the first text is longer than the later ones. A program that talks now and then
        would have been heard before; one that was just started talks more at its start."""
        times = self.link.times("heard", self.asked_mark, self.listen_mark)
        if not times:
            return False
        quiet_s = times[0] - self.asked_since_s
        pauses = [later - earlier for earlier, later in pairwise(times)]
        if max(pauses, default=0.0) > _PAUSE_S:
            return quiet_s > _LONGER * max(pauses)
        return self.link.now() - times[-1] > _LONGER * quiet_s


Figures = dict[str, int | float | str]
"""For programs, in the units given by the names."""


class Meter:
    """Time and characters of one step."""

    def __init__(self, link: RecordingLink) -> None:
        self._link = link
        self._began_s = link.now()
        self._characters = self._moved

    @property
    def _moved(self) -> int:
        return self._link.sent_total + self._link.heard_total

    @property
    def seconds(self) -> float:
        return self._link.now() - self._began_s

    def figures(self, size: int, blocks: int) -> Figures:
        """Bytes, blocks, seconds, bytes a second, and the share of the time in which the line moved bits."""
        seconds = max(self.seconds, 1e-9)
        line_s = self._link.settings.seconds(self._moved - self._characters)
        return {
            "bytes": size,
            "blocks": blocks,
            "seconds": round(seconds, 4),
            "bytes_per_second": round(size / seconds),
            "line_percent": min(100, round(100 * line_s / seconds)),
        }


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

    def proofs_of(self, plan: MemoryPlan) -> list[Span] | tuple[Span, ...]:
        """What verify reads of a memory: the image, and what was written to fill its pages and blocks."""
        fills = self.fills_of(plan)
        return merged([*plan.checks, *fills]) if fills else plan.checks

    @property
    def granules(self) -> Granules | None:
        """The write units of the flash image; None if there is none."""
        image = self.written.get("flash")
        return None if image is None else granules_of(image, self.part.flash.erased)
