"""What was observed when a step failed. Nothing here is a judgement."""

from __future__ import annotations

from dataclasses import field
from typing import Literal

from ..dialects.errors import ChipRefusal
from ..frozen import frozen
from ..link import Frame, LineErrors, LineSettings, ResetBy


@frozen
class LineHeard:
    """Bytes on the line by when they came: before the lines moved, in answer to what was sent, afterwards."""

    before: bytes = b""
    answers: bytes = b""
    after: bytes = b""

    @property
    def everything(self) -> bytes:
        return self.before + self.answers + self.after


@frozen
class Progress:
    """How far a write had come, in bytes."""

    done: int
    total: int
    address: int


@frozen
class ChipSeen:
    """Which chip was declared, and which answered: by name where it is known, else by what it said."""

    declared: str
    answered: str
    said: str


@frozen
class Difference:
    """What verify found: places where the chip differs from what was written.

    `expected` and `found` are the whole spans compared, end to end; `blocks` are (offset, size) of the
    writes in them; `guarded` says that writes carry a checksum, so that nothing was damaged on the way to the
    chip; `before` is what the beginning of the span held before, where that is known; `written`
    is False where nothing was written just now.
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

    @property
    def wrong(self) -> list[int]:
        """Offsets of the bytes that differ."""
        return [i for i, (a, b) in enumerate(zip(self.expected, self.found, strict=True)) if a != b]


@frozen
class ListenAt:
    """Hear what comes at other settings: after a reset where lines can, or, with `wait_s`, once somebody talks.
    `for_boot_text`: it counts only where it reads as what a ROM prints at reset."""

    settings: LineSettings
    wait_s: float = 0.0
    for_boot_text: bool = False


@frozen
class AskAt:
    """Ask the declared bootloader at another rate, after a reset by the lines."""

    baud: int


@frozen
class AskAs:
    """Ask in the other dialects; `only_hasty`: those whose loaders give up, or are entered through a break."""

    only_hasty: bool


@frozen
class WaitForTalk:
    """Listen at the console's rate until a program talks that does so now and then."""


Experiment = ListenAt | AskAt | AskAs | WaitForTalk
Phase = Literal["sync", "chip", "erase", "write", "verify", "start"]


@frozen
class Observations:
    """Everything the findings look at.

    `frame_wanted` is the frame the dialect speaks; `settings` is what the port was set to. `reset_by`: what has
    reset the chip. `untouched`: nothing on the chip was changed so far.

    `sync_sent` and `sync_answers` are the dialect's; `other_answers` are what it says to anything it does not
    understand; `rom_speaks`, whether the declared chip's own ROM prints how it was booted; `speaks_text`, whether
    its answers are text, in capitals; `gives_up`, whether its loader starts the application by itself when it hears
    nothing more. `others` are (title, answers, other sounds) of the other dialects. `listened` is what the port was
    set to while `heard.after` came. `reheard` is what came at the rate that seemed likelier, with what the port was
    set to for it. `answered_at` is the answer to being asked at another rate. `answered_other` is the (title,
    answer) of another dialect that did get an answer. `quiet_s` is how long nothing came while we asked;
    `began_anew`, whether what came then looks like a program's start and not like one that talks now and then;
    `unasked_s`, how long after the last reset by the lines the first asking came, and `early` what was heard until
    then. `warnings` are what the pins' voltages during the sequence give reason to.

    `console` is what the program is heard at. `tried` are the experiments made so far, `first_errors` what the
    receiver had counted before them, and `heard_meanwhile` is what came while others were asked. `other_bauds` are
    rates that the dialect's loaders are built for besides the one that was asked at; `asks_elsewhere`, whether asking
    at another rate can tell anything."""

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
    others: tuple[tuple[str, tuple[bytes, ...], tuple[bytes, ...]], ...] = ()
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
    tried: tuple[Experiment, ...] = ()
    first_errors: LineErrors | None = None
    heard_meanwhile: bytes = b""
    other_bauds: tuple[int, ...] = ()
    asks_elsewhere: bool = False

    @property
    def after_settings(self) -> LineSettings:
        """The settings at which `heard.after` was received."""
        return self.listened or self.settings
