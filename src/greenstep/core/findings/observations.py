"""What was observed when a step failed. Nothing here is a judgement."""

from __future__ import annotations

from dataclasses import field
from typing import Literal

from ..dialects.errors import ChipRefusal
from ..frozen import frozen
from ..link import Frame, LineErrors, LineSettings, ResetBy
from .signatures import Signature


@frozen
class LineHeard:
    """Bytes on the line by when they came: before the lines moved, after we asked, afterwards."""

    before: bytes = b""
    answers: bytes = b""
    after: bytes = b""

    @property
    def everything(self) -> bytes:
        return self.before + self.answers + self.after


@frozen
class Progress:
    """How far a write had got, in bytes."""

    done: int
    total: int
    address: int


@frozen
class ChipSeen:
    """Which chip was declared, and which answered: by name if it is known, else by what it reported."""

    declared: str
    answered: str
    said: str


@frozen
class Difference:
    """What verify found: places where the chip differs from what was written.

    `expected` and `found` are all the spans compared, end to end; `blocks` are (offset, size) of the writes in them;
    `guarded` says that writes carry a checksum, so that nothing was damaged on the way to the chip; `before` is what
    the beginning of the span held before, if that is known; `written` is False if nothing was written in this run;
    `emptied` says that it shall be blank.
    """

    first_address: int
    expected: bytes
    found: bytes
    erased: int
    blocks: tuple[tuple[int, int], ...] = ()
    before: bytes = b""
    reads_differ: bool = False
    guarded: bool = False
    written: bool = True
    emptied: bool = False

    @property
    def wrong(self) -> list[int]:
        """Offsets of the bytes that differ."""
        return [i for i, (a, b) in enumerate(zip(self.expected, self.found, strict=True)) if a != b]


@frozen
class ListenAt:
    """Listen at other settings: after a reset where lines can, or, with `wait_s`, until something talks.
    `for_boot_text`: it only counts if it reads as what a ROM prints at reset."""

    settings: LineSettings
    wait_s: float = 0.0
    for_boot_text: bool = False


@frozen
class AskAt:
    """Ask the declared bootloader at another rate, after a reset by lines."""

    baud: int


@frozen
class AskAs:
    """Ask in the other dialects; `only_urgent`: those whose loaders time out, or are entered through a break."""

    only_urgent: bool


@frozen
class WaitForTalk:
    """Listen at the console's rate for a program that talks now and then."""


Experiment = ListenAt | AskAt | AskAs | WaitForTalk
Phase = Literal["sync", "chip", "erase", "write", "verify", "start"]


@frozen
class Observations:
    """Everything that the findings look at.

    `frame_wanted` is the dialect's frame; `settings` are those of the port. `reset_by`: what reset the chip.
    `untouched`: nothing on the chip has been changed so far.

    `sync_sent` and `sync_answers` are the dialect's; `other_answers` are its answers to anything it does not
    understand; `unlocks`, whether it can unlock; `rom_speaks`, whether the declared chip's own ROM prints how it was
    booted; `speaks_text`, whether its answers are text, in capitals; `gives_up`, whether its loader starts the
    application by itself when it hears nothing more. `others` are the signatures of the other
    dialects. `listened` are the port's settings while `heard.after` came. `reheard` is what came at the rate that
    seemed likelier, with the settings used for it. `answered_at` is the answer to a question at another rate.
    `answered_other` is the (title, answer) of another dialect that got an answer. `quiet_s` is how long nothing
    came while we asked; `began_anew`, whether what came then looks like a program's start and not like one that
    talks now and then; `unasked_s`, how long after the last reset by lines the first question came, and `early`
    what was heard until then. `warnings` come from the pins' voltages during the sequence.

    `console` are the settings at which the program talks. `tried` are the experiments made so far, `first_errors`
    what the receiver had counted before them, and `heard_meanwhile` what came while other dialects were tried.
    `other_bauds` are rates that the dialect's loaders are built for besides the one used; `asks_elsewhere`, whether
    asking at another rate can tell anything. `repeated`: how many questions had to be asked again, of a chip that had
    answered. `called_by`: what leads to the declared loader once a program runs, where a reset alone may not.
    """

    phase: Phase
    settings: LineSettings
    frame_wanted: Frame
    dialect_title: str
    sync_sent: bytes
    sync_answers: tuple[bytes, ...]
    boot_pin: bool
    reset_by: ResetBy = ResetBy.HAND
    hands_enter: tuple[str, ...] = ()
    sent: bytes = b""
    heard: LineHeard = field(default_factory=LineHeard)
    errors: LineErrors | None = None
    others: tuple[Signature, ...] = ()
    synced: bool = False
    untouched: bool = True
    refusal: ChipRefusal | None = None
    silence: str = ""
    progress: Progress | None = None
    chip: ChipSeen | None = None
    locked: str = ""
    difference: Difference | None = None
    expected_text: str = ""
    listened: LineSettings | None = None
    other_answers: tuple[bytes, ...] = ()
    gives_up: bool = False
    unlocks: bool = False
    rom_speaks: bool = False
    speaks_text: bool = False
    reheard: tuple[LineSettings, bytes] | None = None
    answered_at: tuple[LineSettings, str] | None = None
    answered_other: tuple[str, str] | None = None
    quiet_s: float = 0.0
    began_anew: bool = False
    unasked_s: float = 0.0
    early: bytes = b""
    warnings: tuple[str, ...] = ()
    console: LineSettings = LineSettings(115200)
    rom_baud: int | None = None
    doubts: tuple[str, ...] = ()
    port: str = ""
    shared_with: str = ""
    tried: tuple[Experiment, ...] = ()
    first_errors: LineErrors | None = None
    heard_meanwhile: bytes = b""
    other_bauds: tuple[int, ...] = ()
    asks_elsewhere: bool = False
    repeated: int = 0
    called_by: str = ""

    @property
    def after_settings(self) -> LineSettings:
        """The settings at which `heard.after` was received."""
        return self.listened or self.settings
