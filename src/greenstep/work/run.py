"""A run: a job under way, event by event, with its row in the journal."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterator
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from greenstep.core.engine.job import Job, Outcome
from greenstep.core.engine.runner import Climb
from greenstep.core.errors import EXIT_INTERRUPTED
from greenstep.core.events import Event, RunEnded, StepEnded

from .interrupts import Interrupts
from .journal_keeping import Keeper
from .line_memory import remember_hookup
from .person import NOBODY, Person
from .port_choice import loan_of, opener

if TYPE_CHECKING:
    from greenstep.ports.turns import Loan


class Run(Iterator[Event]):
    """Iterating over it does the work and yields its events; the last is a `RunEnded`. After that a run that failed
    raises its Fault, and one that was interrupted KeyboardInterrupt. It can be iterated over once.

    A chip is only changed while events are asked for. A run that is abandoned half-way closes its port and leaves the
    chip as it is then: `close` does so earlier.
    """

    def __init__(
        self,
        job: Job,
        person: Person = NOBODY,
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
        self._person = person
        self._waited_s = 0.0
        self._loan = loan or loan_of(job.port, f"{job.purpose} {job.board}".strip())
        self._gives_back = loan is None
        self._climb = Climb(job, opener(job, person, trace, self._loan))
        self._keeper = Keeper(self._climb, person) if recorded else None
        self._events = self._checked()
        self._at_a_good_end: list[Callable[[], object]] = []

    @property
    def outcome(self) -> Outcome:
        """The result so far, at any time."""
        return self._climb.outcome

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
        if self._climb.fault is not None:
            raise self._climb.fault
        for action in self._at_a_good_end:
            action()

    def events(self, interrupts: Interrupts | None = None) -> Generator[Event, None, None]:
        """Only the events, for a view. Each is in the journal before it is passed on."""
        interrupts = interrupts or Interrupts()
        run = self._climb.run()
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
        return self.job.keeps_open and self._climb.fault is None

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
