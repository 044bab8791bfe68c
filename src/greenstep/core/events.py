"""Everything that happens in a run, as events. The ladder on the screen and the JSON lines both read them."""

from __future__ import annotations

from dataclasses import field
from typing import Literal

from .errors import Finding
from .frozen import frozen

Step = Literal[
    "image",
    "port",
    "enter",
    "sync",
    "chip",
    "compare",
    "keep",
    "erase",
    "write",
    "verify",
    "start",
    "talk",
    "put back",
    "read",
    "lock",
    "unlock",
]
Outcome = Literal["green", "unproven", "failed", "not reached"]
"""'unproven': done as far as anyone can tell, but the board gave no evidence of it."""


@frozen
class RunStarted:
    """What is about to be done. `board` is empty if only options describe it."""

    board: str
    chip: str
    port: str
    line: str
    steps: tuple[Step, ...]


@frozen
class StepStarted:
    step: Step


@frozen
class StepAdvanced:
    """Progress of a long step, in bytes, erase units or seconds of waiting, and the time it has taken."""

    step: Step
    done: int
    total: int
    unit: Literal["bytes", "units", "seconds"]
    elapsed_s: float


@frozen
class HandsWanted:
    """What a person must do now, and for how long the tool keeps asking."""

    step: Step
    moves: tuple[str, ...]
    patience_s: float


@frozen
class HeardMeanwhile:
    """What the board sent while a person is waited for, judged at once; the waiting goes on. `moves` are what the
    person must do, again."""

    step: Step
    finding: Finding
    moves: tuple[str, ...]


@frozen
class Noted:
    """Worth knowing, and no failure."""

    step: Step
    text: str


@frozen
class StepEnded:
    """A step with its evidence. `figures` are for programs, in the units their names give."""

    step: Step
    outcome: Outcome
    evidence: str
    elapsed_s: float = 0.0
    figures: dict[str, int | float | str] = field(default_factory=dict)


@frozen
class Found:
    """Why a step failed: findings, most likely first."""

    step: Step
    findings: tuple[Finding, ...]


@frozen
class RunEnded:
    """The end. `green` only if every step that was due is green; `chip_state` says what an interrupted or failed
    upload leaves behind. `journal` is the number of its row there; 0 if it has none. `hands` are the moves that are
    left to a person, such as setting the boot pin back: until then a power-up leads into the bootloader.
    `version_before` is what the chip held, as far as it is known: a version, else the day of its upload or a file;
    `version_after` is the version that the new image names."""

    green: bool
    exit_code: int
    elapsed_s: float
    summary: str
    chip_state: str = ""
    journal: int = 0
    hands: tuple[str, ...] = ()
    version_before: str = ""
    version_after: str = ""


Event = RunStarted | StepStarted | StepAdvanced | HandsWanted | HeardMeanwhile | Noted | StepEnded | Found | RunEnded
