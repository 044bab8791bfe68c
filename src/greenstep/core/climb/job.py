"""What is to be climbed, and the scene that the steps share while they do it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Literal

from ..chips import Choice, Part
from ..dialects.base import Dialect
from ..events import Step
from ..findings import Progress
from ..hookup import Driver, Hookup
from ..image import Image
from ..link import LineSettings, Link
from ..plan import Plan, Wishes
from ..recording import RecordingLink

Purpose = Literal["greet", "upload", "verify", "start"]


@dataclass(frozen=True)
class Job:
    """One climb, with everything it needs to know.

    `images` are by memory name. `patience_s` is how long to keep asking for sync; None is the dialect's own
    measure where lines reset the chip. `expect` is the text that proves the application runs, heard at
    `console`. `also_idents` are chip numbers accepted beside the declared one's.
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

    @property
    def starts_by_lines(self) -> bool:
        """Whether the application is started by moving lines rather than by a command."""
        if self.hookup.leave is None:
            return False
        return self.dialect.traits.starts_by == "reset" or self.purpose == "start"

    @property
    def steps(self) -> tuple[Step, ...]:
        if self.purpose == "start":
            return ("port", "start") if self.starts_by_lines else ("port", "enter", "sync", "start")
        approach: tuple[Step, ...] = ("port", "enter", "sync", "chip")
        if self.purpose == "greet":
            return approach
        end: tuple[Step, ...] = ("start",) if self.start else ()
        if self.purpose == "verify":
            return ("image", *approach, "verify")
        erase: tuple[Step, ...] = ("erase",) if self.dialect.traits.erases == "by unit" else ()
        return ("image", *approach, *erase, "write", "verify", *end)

    def part_as_declared(self, part: Part) -> Part:
        """The part with the bootloader room that this board states."""
        if self.bootloader_bytes is None:
            return part
        return part.with_memory(replace(part.flash, reserved_top=self.bootloader_bytes))


@dataclass(frozen=True)
class OpenedPort:
    """An open line, and what the system says is behind it."""

    link: Link
    evidence: str


OpenLink = Callable[[LineSettings, tuple[bool, bool]], OpenedPort]
"""Opens the port with the given settings and (DTR, RTS). Raises PortFault."""


@dataclass
class Scene:
    """What the steps have found out so far.

    `changed` is the step that an upload is in since it began to change the chip. `sync_mark` and `listen_mark` are
    the recording's events from which on we asked, and from which on we only listened.
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
