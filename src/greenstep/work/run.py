"""A run: a job under way, event by event, with its row in the journal. Ctrl-C and termination are delivered to a run
and nowhere else; trouble with the journal never stops an upload."""

from __future__ import annotations

import signal
from collections.abc import Callable, Generator, Iterator
from contextlib import AbstractContextManager, contextmanager
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from types import FrameType
from typing import TYPE_CHECKING, Any

from greenstep.core.engine.job import Job, Outcome
from greenstep.core.engine.runner import Runner
from greenstep.core.errors import EXIT_INTERRUPTED, UsageFault
from greenstep.core.events import Event, Found, RunEnded, StepEnded
from greenstep.core.frozen import frozen
from greenstep.core.image import Image
from greenstep.store.image_files import kind_for, save_image

from .line_memory import remember_hookup
from .port_choice import loan_of, opener
from .prompter import NON_INTERACTIVE, Prompter

if TYPE_CHECKING:
    from pathlib import Path

    from greenstep.core.engine.runner import Runner
    from greenstep.core.image.granules import Remembered
    from greenstep.ports.turns import Loan
    from greenstep.store.journal import JournalTrouble

    from .prompter import Prompter


class Interrupts:
    """While the run is at work they raise at once. While an event is being shown they wait until the run is asked for
    its next one, so that it can always say what state the chip is in.

    `heard`: whether one ever came. One that comes with the last event of a run changes nothing in that run; and what
    is raised while an object is disposed of is lost (Python prints it and goes on). Whoever goes on after a run looks
    here.
    """

    def __init__(self) -> None:
        self.inside = False
        self.pending = False
        self.heard = False

    def _arrived(self, number: int, frame: FrameType | None) -> None:
        self.heard = True
        if self.inside:
            self.inside = False
            raise KeyboardInterrupt
        self.pending = True

    def _noted(self, number: int, frame: FrameType | None) -> None:
        self.heard = True
        raise KeyboardInterrupt

    def caught(self) -> AbstractContextManager[None]:
        """For the time of a run."""
        return _handled(self._arrived)

    def noted(self) -> AbstractContextManager[None]:
        """For what goes on between runs: they raise at once, as they would without, and are remembered."""
        return _handled(self._noted)


@contextmanager
def _handled(handler: Callable[[int, FrameType | None], None]) -> Iterator[None]:
    """Signals arrive here. Outside the main thread they go elsewhere anyway."""
    numbers = (signal.SIGINT, signal.SIGTERM)
    try:
        before: dict[int, Any] = {number: signal.signal(number, handler) for number in numbers}
    except ValueError:
        yield
        return
    try:
        yield
    finally:
        for number, kept in before.items():
            signal.signal(number, kept)


def recall(prompter: Prompter, unique_id: str, chip: str) -> Remembered | None:
    """What the journal knows of a chip by its own number; a journal that cannot be read is reported and knows
    nothing."""
    from greenstep.store.journal import JournalTrouble, remembered
    from greenstep.store.journal_place import journal_file

    path = journal_file()
    try:
        return None if path is None else remembered(path, unique_id, chip)
    except JournalTrouble as trouble:
        if path is None or not _begun_anew(path, trouble, prompter):
            prompter.tell(f" the journal is not trusted: {trouble}")
        return None


def _begun_anew(path: Path, trouble: JournalTrouble, prompter: Prompter) -> bool:
    """Whether a damaged journal was put aside, which the person is told."""
    from greenstep.store.journal import JournalTrouble, set_aside

    if not trouble.damaged:
        return False
    try:
        aside = set_aside(path)
    except JournalTrouble:
        return False
    prompter.tell(f" the journal was damaged ({trouble}): it is kept as {aside.name}, and a new one is begun")
    return True


class JournalKeeper:
    """Records one run, if it is of those that are recorded."""

    def __init__(self, runner: Runner, prompter: Prompter) -> None:
        from greenstep.core.journal.records import Recorder

        self._runner = runner
        self._person = prompter
        self._recorder = Recorder(runner.job, datetime.now().astimezone().isoformat(timespec="seconds"))

    def see(self, event: Event) -> int:
        """Take note of an event; returns the number of the row at the end, else 0."""
        self._recorder.see(event)
        return self._write(event) if isinstance(event, RunEnded) and self._is_recorded else 0

    @property
    def _is_recorded(self) -> bool:
        """Also a run that was only to look, and has changed the chip: by a password that was refused, for one."""
        from greenstep.core.engine.chip_state import ChipState
        from greenstep.core.journal.records import RECORDED

        return self._runner.job.purpose in RECORDED or self._runner.outcome.state is not ChipState.UNTOUCHED

    def _write(self, ended: RunEnded) -> int:
        from greenstep.store.journal import JournalTrouble, record
        from greenstep.store.journal_place import journal_file

        path = journal_file()
        if path is None:
            return 0
        try:
            outcome = self._runner.outcome
            job = self._runner.job
            looked_at = job.purpose == "upload" and job.options.verify and outcome.unique_id
            granules = outcome.granules if looked_at else None
            entry = self._recorder.entry(ended, outcome.unique_id, outcome.line)
            try:
                return record(path, entry, granules)
            except JournalTrouble as trouble:
                if not _begun_anew(path, trouble, self._person):
                    raise
                return record(path, entry, granules)
        except JournalTrouble as trouble:
            self._person.tell(f" not in the journal: {trouble}")
            return 0


@frozen
class Compared:
    """`same`: every byte of the images was found in the chip, by `proof`. Else `finding` is the key of the reason; if
    it cannot be told (no answer, nothing to read back), it is not the same."""

    same: bool
    proof: str
    finding: str


def compared(verify: Run) -> Compared:
    """The result of a verify. It ends at the first byte that differs, and leaves the application running. Raises
    KeyboardInterrupt."""
    interrupts, proof, finding = Interrupts(), "", ""
    with interrupts.caught():
        for event in verify.events(interrupts):
            if isinstance(event, StepEnded) and event.step == "verify" and event.outcome == "green":
                proof = event.evidence
            elif isinstance(event, Found):
                finding = event.findings[0].key
            elif isinstance(event, RunEnded) and event.exit_code == EXIT_INTERRUPTED:
                raise KeyboardInterrupt
    return Compared(bool(proof) and not finding and not verify.outcome.unproven, proof, finding)


def save_backup(run: Run, save: Path) -> str:
    """Write the file in the format of its ending, raw if that names none. Returns what a person should know about it;
    empty if nothing. Raises UsageFault."""
    part = run.outcome.part or run.job.choice.first
    memory = part.memory(run.job.region[0])
    try:
        kind = kind_for(save, None)
    except UsageFault:
        kind = "raw"
    image = Image(save.name, run.outcome.backup)
    save_image(save, image, kind, memory.erased, 16)
    low = image.lowest
    return f", which belongs at 0x{low:X}" if kind == "raw" and low != memory.start else ""


class Run(Iterator[Event]):
    """Iterating over it does the work and yields its events; the last is a `RunEnded`. After that a run that failed
    raises its Fault, and one that was interrupted KeyboardInterrupt. It can be iterated over once.

    A chip is only changed while events are asked for. A run that is abandoned half-way closes its port and leaves the
    chip as it is then: `close` does so earlier.
    """

    def __init__(
        self,
        job: Job,
        prompter: Prompter = NON_INTERACTIVE,
        trace: Path | None = None,
        recorded: bool = True,
        waits: bool = False,
        loan: Loan | None = None,
    ) -> None:
        """`trace` is a file for a recording of the line (VCD). `recorded`: add a row to the journal; if the run
        `waits` for a board, not if none came. `loan` is the caller's, who gives the port back to a console later;
        without it, the run does."""
        self.job = job
        self._waits = waits
        self._person = prompter
        self._waited_s = 0.0
        self._loan = loan or loan_of(job.port, f"{job.purpose} {job.board}".strip())
        self._gives_back = loan is None
        self._runner = Runner(job, opener(job, prompter, trace, self._loan))
        self._keeper = JournalKeeper(self._runner, prompter) if recorded else None
        self._events = self._checked()
        self._at_a_good_end: list[Callable[[], object]] = []

    @property
    def outcome(self) -> Outcome:
        """The result so far, at any time."""
        return self._runner.outcome

    def __next__(self) -> Event:
        return next(self._events)

    def finish(self) -> Outcome:
        """Do the rest of it, and return the result. Raises Fault, KeyboardInterrupt."""
        for _ in self:
            pass
        return self.outcome

    def at_a_good_end(self, action: Callable[[], object]) -> None:
        """Call `action` after the last event of a run that was completed and did not fail."""
        self._at_a_good_end.append(action)

    def close(self) -> None:
        """End it where it is, and close its port."""
        self._events.close()

    def _checked(self) -> Generator[Event, None, None]:
        code = 0
        for event in self.events():
            if isinstance(event, RunEnded):
                code = event.exit_code
            yield event
        if code == EXIT_INTERRUPTED:
            raise KeyboardInterrupt
        if self._runner.fault is not None:
            raise self._runner.fault
        for action in self._at_a_good_end:
            action()

    def events(self, interrupts: Interrupts | None = None) -> Generator[Event, None, None]:
        """Only the events, for a view. Each is in the journal before it is passed on."""
        interrupts = interrupts or Interrupts()
        run = self._runner.run()
        try:
            while True:
                pending, interrupts.pending = interrupts.pending, False
                interrupts.inside = True
                try:
                    event = run.throw(KeyboardInterrupt()) if pending else next(run)
                except StopIteration:
                    return
                finally:
                    interrupts.inside = False
                yield self._kept(event)
        finally:
            run.close()
            if self.job.pins is not None and not self._stays_open:
                self.job.pins.close()
            if self._loan is not None and self._gives_back and not self._stays_open:
                self._loan.give_back()

    @property
    def _stays_open(self) -> bool:
        """Whether the port is kept for a console."""
        return self.job.keeps_open and self._runner.fault is None

    def _kept(self, event: Event) -> Event:
        """The event, once the journal has recorded what it needs."""
        if isinstance(event, StepEnded) and event.step == "sync" and event.outcome == "green":
            self._waited_s = event.elapsed_s
        if isinstance(event, RunEnded) and event.green and self._keeper is not None:
            remember_hookup(self.job, self._waited_s, self._person)
        if isinstance(event, RunEnded) and self._loan is not None:
            link = self.outcome.link
            self._loan.tell(event.summary, b"" if link is None else link.collected)
        if self._keeper is None or (self._waits and isinstance(event, RunEnded) and not self.outcome.synced):
            return event
        number = self._keeper.see(event)
        return replace(event, journal=number) if isinstance(event, RunEnded) else event
