"""A climb on the bench's virtual clock, from first to last event."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

from greenstep.core.chips import Catalogue
from greenstep.core.climb import Climb, Job, OpenedPort, Purpose
from greenstep.core.dialects.registry import find_dialect
from greenstep.core.errors import Finding
from greenstep.core.events import ClimbEnded, Event, Found, StepEnded
from greenstep.core.hookup import named_hookup
from greenstep.core.image import Image
from greenstep.core.link import LineSettings

from . import avr, stm32
from .boards import BOARDS, Hands
from .circuits import NoLines
from .faults import Faults
from .line import SimulatedLine
from .samples import avr_image, stm32_image
from .virtual_link import VirtualLink


@dataclass
class Trial:
    """How a climb went. `line` still holds the simulated chip, for a look at its memory."""

    line: SimulatedLine
    events: list[Event] = field(default_factory=list)
    link: VirtualLink | None = None

    @property
    def end(self) -> ClimbEnded:
        last = self.events[-1]
        assert isinstance(last, ClimbEnded)
        return last

    @property
    def findings(self) -> tuple[Finding, ...]:
        return next((event.findings for event in self.events if isinstance(event, Found)), ())

    def step(self, name: str) -> StepEnded:
        """How a rung ended. Raises KeyError where it was not climbed."""
        for event in self.events:
            if isinstance(event, StepEnded) and event.step == name:
                return event
        raise KeyError(name)

    def holds(self, image: Image, memory: str = "flash", start: int | None = None) -> bool:
        """Whether the simulated memory holds every byte of the image."""
        content = bytes(getattr(self.line.chip, memory))
        base = (0x08000000 if hasattr(self.line.chip, "unique_id") else 0) if start is None else start
        return all(content[p.address - base : p.end - base] == p.data for p in image.pieces)


def sample_for(board: str, size_bytes: int, seed: int = 1) -> Image:
    """A made-up image that fits a bench board."""
    chip = BOARDS[board].chip
    if chip in stm32.KINDS:
        kind = stm32.KINDS[chip]
        return stm32_image("brood probe 1.7 ready", size_bytes, kind.ram_bytes, seed, kind.erased)
    assert chip in avr.KINDS
    return avr_image("hive scale 2.4 ready", size_bytes, seed)


def prepare(
    board: str,
    images: dict[str, Image] | None = None,
    faults: tuple[str, ...] = (),
    purpose: Purpose = "upload",
    turnaround_s: float = 0.001,
    hands: Hands | None = None,
    chip: str | None = None,
    link_options: dict[str, Any] | None = None,
    **changes: Any,
) -> tuple[Climb, Trial]:
    """A climb that is ready to run, and the trial that takes its events; `changes` are fields of the Job."""
    bench_board = BOARDS[board]
    switched_on = Faults.parse(faults)
    line = bench_board.build(switched_on, turnaround_s)
    if hands is not None:
        line.circuit = NoLines()
        hands.press(line, 0.0)
    trial = Trial(line)
    choice = Catalogue.load().find(chip or bench_board.chip)
    dialect = find_dialect(choice.dialect)
    job = Job(
        purpose,
        choice,
        dialect,
        LineSettings(bench_board.baud, dialect.frame),
        "virtual",
        named_hookup(line.circuit.hookup, choice.first.boot_level),
        images=images or {},
        console=LineSettings(bench_board.baud if choice.dialect == "avr-v1" else 115200),
    )

    def open_link(settings: LineSettings, lines: tuple[bool, bool]) -> OpenedPort:
        trial.link = VirtualLink(line, settings, lines, **(link_options or {}))
        return OpenedPort(trial.link, "opened on the virtual clock")

    return Climb(replace(job, **changes), open_link), trial


def run(*arguments: Any, **named: Any) -> Trial:
    """`prepare`, and climb to the end."""
    climb, trial = prepare(*arguments, **named)
    trial.events.extend(climb.run())
    return trial
