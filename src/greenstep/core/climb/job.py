"""What is to be climbed, and the scene that the steps share while they do it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Literal, Protocol

from ..chips import Choice, Part
from ..dialects.base import Dialect
from ..events import Step
from ..findings import Progress
from ..fit import with_bootloader
from ..hookup import Driver, Hookup
from ..image import Image
from ..image.granules import Granules, granules_of
from ..link import LineSettings, Link
from ..plan import Plan, Wishes
from ..recording import RecordingLink
from ..secrets import Secrets
from ..talk import TalkLine


@dataclass(frozen=True)
class Remembered:
    """What the journal's row `number` says that a chip's flash was given, proven then."""

    number: int
    granules: Granules


Purpose = Literal["greet", "upload", "verify", "start", "backup", "erase", "lock", "unlock"]


@dataclass(frozen=True)
class Job:
    """One climb, with everything it needs to know.

    `images` are by memory name. `patience_s` is how long to keep asking for sync; None is the dialect's own
    measure where lines reset the chip. `expect` is the text that proves the application runs, heard at
    `console`. `also_idents` are chip numbers accepted beside the declared one's.
    `talk` is said to the application after the start, each line with `line_end`; `secrets` are kept out of every
    recording. `keeps_open`: after a green end the link stays open, for whoever goes on listening. `region` is the
    memory, address and size that a backup or an erase is about; None is all of it. `recall` says what the journal
    knows of a chip, by its own number and its part's name; `put_aside` stores room that is to be kept, for the board
    or chip named, and raises RefusedFault where it cannot.
    """

    purpose: Purpose
    choice: Choice
    dialect: type[Dialect]
    settings: LineSettings
    port: str
    hookup: Hookup
    board: str = ""
    images: dict[str, Image] = field(default_factory=dict)
    wishes: Wishes = field(default_factory=Wishes)
    patience_s: float | None = None
    expect: str = ""
    expect_within_s: float = 5.0
    console: LineSettings = field(default_factory=lambda: LineSettings(115200))
    start: bool = True
    also_idents: frozenset[int] = frozenset()
    bootloader_bytes: int | None = None
    talk: tuple[TalkLine, ...] = ()
    line_end: bytes = b"\r\n"
    secrets: Secrets = field(default_factory=Secrets)
    keeps_open: bool = False
    region: tuple[str, int | None, int | None] = ("flash", None, None)
    recall: Callable[[str, str], Remembered | None] | None = None
    put_aside: Callable[[Image, str], Aside] | None = None

    @property
    def first_settings(self) -> LineSettings:
        """Rate and frame to ask with; the rate wanted may only be taken up once the loader answers."""
        return replace(self.settings, baud=self.dialect.first_baud(self.choice.first, self.settings.baud))

    @property
    def starts_by_lines(self) -> bool:
        """Whether the application is started by moving lines rather than by a command."""
        if self.hookup.leave is None:
            return False
        return self.dialect.traits.starts_by == "reset" or self.purpose == "start"

    @property
    def steps(self) -> tuple[Step, ...]:
        if self.purpose == "start":
            way: tuple[Step, ...] = ("port",) if self.starts_by_lines else ("port", "enter", "sync")
            return (*way, *self._end)
        approach: tuple[Step, ...] = ("port", "enter", "sync", "chip")
        if self.purpose == "greet":
            return approach
        end = self._end if self.start else ()
        if self.purpose == "verify":
            return ("image", *approach, "verify")
        if self.purpose == "backup":
            return (*approach, "read")
        if self.purpose == "lock":
            return (*approach, "lock")
        if self.purpose == "unlock":
            return (*approach, "unlock")
        erases = self.dialect.traits.erases != "inside write" or self.wishes.erase_all
        erase: tuple[Step, ...] = ("erase",) if erases else ()
        if self.purpose == "erase":
            alone = erases or self.dialect.traits.erases_alone
            return (*approach, "erase" if alone else "write", "verify")
        return ("image", *approach, *self._sparing, *erase, "write", "verify", *end)

    @property
    def _sparing(self) -> tuple[Step, ...]:
        """What is looked at so that it need not be written, or will not be lost."""
        # who does not want to verify may have a loader that cannot read
        reads = self.dialect.traits.reads and self.wishes.verify
        compares = self.wishes.compare and not self.wishes.erase_all and reads
        compare: tuple[Step, ...] = ("compare",) if compares else ()
        return (*compare, "keep") if self.wishes.keep else compare

    @property
    def _end(self) -> tuple[Step, ...]:
        return ("start", "talk") if self.talk else ("start",)

    def part_as_declared(self, part: Part) -> Part:
        """The part with the bootloader room that this board states."""
        return with_bootloader(part, self.bootloader_bytes)


@dataclass(frozen=True)
class OpenedPort:
    """An open line, and what the system says is behind it."""

    link: Link
    evidence: str


class Aside(Protocol):
    """Where bytes lie safe while the chip does not hold them. `name` is what a person finds them by; `earlier` are
    names of those that were put aside for the same board before, and never came back."""

    @property
    def name(self) -> str: ...

    @property
    def earlier(self) -> tuple[str, ...]: ...

    def drop(self) -> None:
        """The chip holds them again."""


OpenLink = Callable[[LineSettings, tuple[bool, bool]], OpenedPort]
"""Opens the port with the given settings and (DTR, RTS). Raises PortFault."""


_CHIP_NUMBERS = ("unique_id", "mac", "serial")


def chip_number(figures: Mapping[str, int | float | str]) -> str:
    """The chip's own number among what it said of itself; empty where it has none."""
    return next((str(figures[name]) for name in _CHIP_NUMBERS if name in figures), "")


@dataclass
class Scene:
    """What the steps have found out so far.

    `changed` is the step that an upload is in since it began to change the chip. `sync_mark` and `listen_mark` are
    the recording's events from which on we asked, and from which on we only listened, to before `listen_end`.
    `aside` is where room lies that is to be kept and is not in the chip again yet.
    `whole_plan` is the plan before it was narrowed; `line_hurt`: something had to be said again while writing.
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
    backup: bytes = b""
    unique_id: str = ""
    trusted: Remembered | None = None
    trusted_bytes: int = 0
    sampled_bytes: int = 0
    written: dict[str, Image] = field(default_factory=dict)
    whole_plan: Plan | None = None
    aside: Aside | None = None
    line_hurt: bool = False

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
