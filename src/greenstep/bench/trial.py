"""A run on the bench's virtual clock, from first to last event."""

from __future__ import annotations

from dataclasses import field, replace
from typing import Any

from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.chips.part import Part
from greenstep.core.dialects.dialect import Dialect
from greenstep.core.dialects.registry import find_dialect
from greenstep.core.dialects.settings import preset, read_settings
from greenstep.core.engine.job import Job, OpenedPort, OpenLink, Purpose
from greenstep.core.engine.runner import Runner
from greenstep.core.errors import Finding, PortFault
from greenstep.core.events import Event, Found, HandsWanted, HeardMeanwhile, RunEnded, StepEnded
from greenstep.core.findings.port_rules import PortSeen, diagnose_port
from greenstep.core.frozen import changing
from greenstep.core.hookup.circuits import entered_by, named_hookup
from greenstep.core.image import Image
from greenstep.core.link import LineSettings
from greenstep.core.plan.write_options import CompareWith, WriteOptions

from .boards import BOARDS, BenchBoard
from .circuits import NoLines
from .faults import Faults
from .line import SimulatedLine
from .person import Hands
from .virtual_link import VirtualLink


@changing
class Trial:
    """How a run went. `line` still holds the simulated chip, for a look at its memory."""

    line: SimulatedLine
    events: list[Event] = field(default_factory=list)
    board: BenchBoard | None = None
    link: VirtualLink | None = None

    @property
    def end(self) -> RunEnded:
        last = self.events[-1]
        assert isinstance(last, RunEnded)
        return last

    @property
    def findings(self) -> tuple[Finding, ...]:
        return next((event.findings for event in self.events if isinstance(event, Found)), ())

    def step(self, name: str) -> StepEnded:
        """How a step ended. Raises KeyError if it was not reached."""
        for event in self.events:
            if isinstance(event, StepEnded) and event.step == name:
                return event
        raise KeyError(name)

    def step_or_none(self, name: str) -> StepEnded | None:
        """The same; None if it was not reached."""
        return next((e for e in self.events if isinstance(e, StepEnded) and e.step == name), None)

    def holds(self, image: Image, memory: str = "flash", start: int | None = None) -> bool:
        """Whether the simulated memory holds every byte of the image."""
        content = bytes(getattr(self.line.chip, memory))
        if self.board is not None and memory == "flash":
            image = self.board.held(image)
        base = (self.line.chip.base if memory == "flash" else 0) if start is None else start
        return all(content[p.address - base : p.end - base] == p.data for p in image.pieces)


def sample_for(board: str, size_bytes: int, seed: int = 1) -> Image:
    """A made-up image that fits a bench board."""
    stand = BOARDS[board]
    return stand.program(stand.texts[1], size_bytes, seed)


def _write_options(dialect: type[Dialect], part: Part, board: BenchBoard) -> WriteOptions:
    """The settings of the part's record, and the board's own."""
    return WriteOptions(settings=read_settings(dialect, {**preset(part), **dict(board.settings)}.items()))


class _Attended(Runner):
    """A run that a simulated person watches, who does what is asked for: presses again where that is said, and sets
    the boot pin back at the end."""

    def __init__(self, job: Job, open_link: OpenLink, trial: Trial, hands: Hands) -> None:
        super().__init__(job, open_link)
        self._trial, self._hands, self._asked = trial, hands, 0

    def _record(self, event: Event) -> Event:
        if isinstance(event, HandsWanted | HeardMeanwhile) and self._trial.link is not None:
            self._does(event, self._trial.line, self._trial.link.now())
        return super()._record(event)

    def _does(self, event: HandsWanted | HeardMeanwhile, line: SimulatedLine, now_s: float) -> None:
        if isinstance(event, HeardMeanwhile):
            free = self._hands.order_right and not line.pins_will_change
            if event.step == "sync" and free:  # who is told why presses once, and waits
                replace(self._hands, habit="").press(line, now_s)
            return
        self._asked += event.step == "sync"
        if event.step != "sync":
            self._hands.leave(line, now_s)
        elif self._asked > 1:  # the first press is on the schedule already
            self._hands.press(line, now_s)


def prepare(
    board: str,
    images: dict[str, Image] | None = None,
    faults: tuple[str, ...] = (),
    purpose: Purpose = "upload",
    turnaround_s: float = 0.001,
    hands: Hands | None = None,
    chip: str | None = None,
    link_options: dict[str, Any] | None = None,
    port_trouble: PortSeen | None = None,
    compare: bool = True,
    seed: int = 0,
    **changes: Any,
) -> tuple[Runner, Trial]:
    """A run that is ready to start, and the trial that takes its events; `changes` are fields of the Job,
    `port_trouble` is what the system says when the port is opened, `compare` False writes whatever is there, and
    `seed` makes random faults repeatable."""
    bench_board = BOARDS[board]
    switched_on = Faults.parse(faults, seed)
    line = bench_board.build(switched_on, turnaround_s)
    if hands is not None:
        line.circuit = NoLines()
        hands.press(line, (link_options or {}).get("on_for_s", 0.0))
    trial = Trial(line, board=bench_board)
    choice = Catalogue.load().find(chip or bench_board.chip)
    if chip is None and bench_board.dialect:
        choice = choice.speaking(bench_board.dialect)
    dialect = find_dialect(
        changes.pop("dialect_name", "") or (bench_board.dialect if chip is None else choice.dialect) or choice.dialect
    )
    job = Job(
        purpose,
        choice,
        dialect,
        LineSettings(bench_board.baud, dialect.frame),
        "virtual",
        entered_by(named_hookup(line.circuit.hookup, choice.first.boot_level), dialect.spec.asking.entering),
        images=images or {},
        console=LineSettings(bench_board.console),
        options=_write_options(dialect, choice.first, bench_board) if chip is None else WriteOptions(),
    )

    def open_link(settings: LineSettings, lines: tuple[bool, bool]) -> OpenedPort:
        if port_trouble is not None:
            raise PortFault(diagnose_port(port_trouble))
        trial.link = VirtualLink(line, settings, lines, **(link_options or {}))
        return OpenedPort(trial.link, "opened on the virtual clock")

    job = replace(job, **changes)
    if not compare:
        job = replace(job, options=replace(job.options, compare=CompareWith.OFF))
    return (Runner(job, open_link) if hands is None else _Attended(job, open_link, trial, hands)), trial


def run(*arguments: Any, **named: Any) -> Trial:
    """`prepare`, and run to the end."""
    runner, trial = prepare(*arguments, **named)
    trial.events.extend(runner.run())
    return trial
