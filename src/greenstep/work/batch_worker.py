"""One port of a batch, in a process of its own: board after board, each to its end, each with the values that were
taken for it before it was touched."""

from __future__ import annotations

import signal
import time
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime
from multiprocessing.connection import Connection
from multiprocessing.synchronize import Event as Flag
from multiprocessing.synchronize import Semaphore
from typing import Literal

from greenstep.core.batch.board_values import BoardValues, with_values
from greenstep.core.batch.results import BoardResult
from greenstep.core.engine.chip_state import ChipState
from greenstep.core.engine.job import Job, Outcome
from greenstep.core.engine.runner import poll_for_chip
from greenstep.core.errors import Finding, UsageFault, usage
from greenstep.core.events import Found, HandsWanted, HeardMeanwhile, RunEnded, StepAdvanced, StepEnded, StepStarted
from greenstep.core.frozen import frozen
from greenstep.store.given_values import Claim, claim, hand_back, settle, values_file

from .port_choice import loan_of, opener
from .prompter import Prompter
from .run import Run


class OwnValues:
    """What one board has been given."""

    def __init__(self, wanted: BoardValues, given: Claim) -> None:
        self._wanted = wanted
        self._given = given

    @classmethod
    def next_of(cls, wanted: BoardValues, unique_id: str) -> OwnValues | None:
        """The next ones; those that the chip with this number of its own had before. None if none are left. Raises
        UsageFault."""
        given = claim(values_file(), wanted, unique_id)
        return None if given is None else cls(wanted, given)

    def put_into(self, job: Job) -> Job:
        """The job of this very board. Raises UsageFault."""
        try:
            own = with_values(job, self._wanted.patches, self._given.values)
        except ValueError as error:  # a value of an earlier batch, under other options
            self.hand_back()
            raise usage("value", str(error)) from None
        return replace(own, only_chip=self._given.unique_id)

    def hand_back(self) -> None:
        """No board has seen them. Raises UsageFault."""
        hand_back(values_file(), self._given)

    def ended(self, outcome: Outcome, ended: RunEnded, started: bool) -> None:
        """Where they are now. `started`: the application was started, and may have been told. Raises UsageFault."""
        if ended.exit_code and outcome.state is ChipState.UNTOUCHED and not started:
            self.hand_back()
            return
        how = "green" if ended.green else "failed" if ended.exit_code else "unproven"
        chip = outcome.part.title if outcome.part else ""
        settle(values_file(), self._given, outcome.unique_id, chip, how, ended.journal)


_BETWEEN_NEWS_S = 0.2
_POLL_S, _PLUGGED_S = 0.7, 1.0
_NO_END_S = 1e9
_ALL_GIVEN = "every row of values is given: no further board is begun"


@frozen
class Waits:
    """For the last board to be removed, or for the next one."""

    what: Literal["take off", "next"]


@frozen
class Begins:
    """A board is there, and its upload begins."""


@frozen
class Goes:
    """A step that began, or its progress; a finished chip step; what hands must do."""

    event: StepStarted | StepAdvanced | StepEnded | HandsWanted | HeardMeanwhile


@frozen
class Ends:
    """A board is done; `finding` is the first, if it failed."""

    result: BoardResult
    finding: Finding | None


@frozen
class Stops:
    """No further board is served, for this reason; `exit_code` is 0 if that is no failure."""

    text: str
    exit_code: int = 0


News = Waits | Begins | Goes | Ends | Stops


@frozen
class Order:
    """What a process is to do. `again`: board after board; `wait_s`: how long for the next one, None is without
    limit. `each_new_port`: the port has come just now. `values`: what each board has for itself."""

    job: Job
    prompter: Prompter
    again: bool
    wait_s: float | None
    each_new_port: bool = False
    values: BoardValues | None = None


def work(order: Order, news: Connection, stopping: Flag, places: Semaphore | None) -> None:
    """Serve the port. `places` are the boards that may still be begun; None is without limit."""
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, signal.SIG_IGN)
    if order.each_new_port:
        time.sleep(_PLUGGED_S)  # the system gives a new port its permissions a little later
    _Worker(order, news, stopping, places).run()


class _Worker:
    def __init__(self, order: Order, news: Connection, stopping: Flag, places: Semaphore | None) -> None:
        self._order = order
        self._news = news
        self._stopping = stopping
        self._places = places
        self._loan = loan_of(order.job.port, f"batch {order.job.board}".strip())
        self._open = opener(order.job, order.prompter, None, self._loan)
        self._listened = True
        self._there = ""

    def run(self) -> None:
        try:
            self._serve()
        except UsageFault as fault:
            self._tell(Stops(str(fault), fault.exit_code))
        finally:
            if self._loan is not None:
                self._loan.give_back()

    def _serve(self) -> None:
        last: str | None = None
        while not self._stopping.is_set():
            if self._places is not None and not self._places.acquire(block=False):
                return
            if self._order.again and not self._next_is_there(last):
                return
            result = self._upload()
            if result is None or not self._order.again:
                return
            last = result.unique_id

    def _tell(self, news: News) -> None:
        """The watching process may be gone: the board is finished all the same."""
        if self._listened:
            try:
                self._news.send(news)
            except OSError:
                self._listened = False
                self._stopping.set()

    # --- waiting

    @property
    def _by_lines(self) -> bool:
        enter = self._order.job.hookup.enter
        return enter is not None and not enter.hangs_up

    def _next_is_there(self, last: str | None) -> bool:
        """Wait for another board than the last; without lines, the upload's own questions wait for it."""
        if not self._by_lines:
            self._tell(Waits("next"))
            return True
        end_s = time.monotonic() + (self._order.wait_s if self._order.wait_s is not None else _NO_END_S)
        if last is not None:
            self._tell(Waits("take off"))
            if not self._until(lambda number: number is None or (bool(last) and number not in ("", last)), end_s):
                return False
        self._tell(Waits("next"))
        return self._until(lambda number: number is not None, end_s)

    def _until(self, wanted: Callable[[str | None], bool], end_s: float) -> bool:
        while not self._stopping.is_set() and time.monotonic() < end_s:
            number = poll_for_chip(self._order.job, self._open)
            if wanted(number):
                self._there = number or ""
                return True
            self._stopping.wait(_POLL_S)
        return False

    # --- one board

    def _upload(self) -> BoardResult | None:
        """One board to its end; None if none came."""
        job = self._order.job
        by_hand = self._order.again and not self._by_lines
        if by_hand:
            job = replace(job, patience_s=self._order.wait_s or _NO_END_S)
        own = None
        if self._order.values is not None:
            own = self._next_values(self._order.values)
            if own is None:
                self._tell(Stops(_ALL_GIVEN))
                return None
            job = own.put_into(job)
        run = Run(job, self._order.prompter, waits=by_hand, loan=self._loan)
        told_s, finding, started = 0.0, None, False
        at = datetime.now().astimezone().isoformat(timespec="seconds")
        self._tell(Begins())
        events = run.events()
        for event in events:
            nobody = by_hand and not run.outcome.synced
            if nobody and (self._stopping.is_set() or (isinstance(event, RunEnded) and event.exit_code == 4)):
                events.close()  # and with it the port
                if own is not None:
                    own.hand_back()
                return None
            if isinstance(event, Found):
                finding = event.findings[0]
            elif isinstance(event, RunEnded):
                result = _result(run, event, finding, at)
                self._tell(Ends(result, finding))
                if own is not None:
                    own.ended(run.outcome, event, started)
                return result
            elif isinstance(event, StepAdvanced):
                if time.monotonic() - told_s >= _BETWEEN_NEWS_S or event.done >= event.total:
                    told_s = time.monotonic()
                    self._tell(Goes(event))
            elif isinstance(event, StepStarted | StepEnded | HandsWanted | HeardMeanwhile):
                started = started or (isinstance(event, StepStarted) and event.step == "start")
                self._tell(Goes(event))
        return None

    def _next_values(self, wanted: BoardValues) -> OwnValues | None:
        """Values for the board that is there; None if none are left."""
        if not self._order.again and self._by_lines:
            self._there = poll_for_chip(self._order.job, self._open) or ""
        return OwnValues.next_of(wanted, self._there)


def _result(run: Run, ended: RunEnded, finding: Finding | None, at: str) -> BoardResult:
    job, outcome = run.job, run.outcome
    return BoardResult(
        at=at,
        port=job.port,
        board=job.board,
        chip=outcome.part.title if outcome.part else job.choice.title,
        unique_id=outcome.unique_id,
        green=ended.green,
        exit_code=ended.exit_code,
        seconds=round(ended.elapsed_s, 3),
        summary=ended.summary,
        finding=finding.key if finding else "",
        cause=finding.cause if finding else "",
        own_values=job.own_values,
        journal=ended.journal,
    )
