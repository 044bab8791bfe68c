"""The run of a job: the steps in order, every way they can end, and how the end is put in words."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterable, Iterator
from contextlib import suppress
from dataclasses import replace

from ..dialects.abilities import Cancels
from ..dialects.avr_looking import into_loader
from ..dialects.errors import (
    ChipRefusal,
    DialectError,
    ErasedByRefusal,
    NotReset,
    Silence,
    Unexpected,
    UnexpectedErase,
)
from ..errors import (
    EXIT_INTERRUPTED,
    Fault,
    NoAnswerFault,
    RefusedFault,
    StartFault,
    VerifyFault,
    WriteFault,
)
from ..events import (
    Event,
    Found,
    Noted,
    RunEnded,
    RunStarted,
    Step,
    StepEnded,
    StepStarted,
)
from ..findings.observations import Phase
from ..findings.port_rules import link_fault
from ..image.versions import Version, change, version_of
from ..link import LinkError, LinkLost, RateRefused, ResetBy
from ..quantities import show_seconds
from .chip_state import ChipState, in_words
from .compare import compare_step
from .connect import chip_step, enter_step, image_step, open_session, sync_step
from .explain import explain, listen_for_application
from .fastest_rate import can_go_slower, can_slow_down, go_slower, slow_down
from .job import Job, OpenLink, Outcome
from .poll import reset_and_ask
from .preserve import erased_by_refusal, erased_unasked, keep_step
from .regions import lock_step, read_step, unlock_step
from .resume import can_resume, can_resume_by_hand, reset_itself, resume, resume_by_hand, steps_again
from .session import Session, Transfer
from .start import goodbye, is_left_to_hands, moves_back, put_back_step, start_step, talk_step
from .verify import verify_step
from .write import erase_step, leave_out_written, write_step

_WITH_SESSION: dict[Step, Callable[[Session], Iterator[Event]]] = {
    "enter": enter_step,
    "sync": sync_step,
    "put back": put_back_step,
    "start": start_step,
    "talk": talk_step,
    "read": read_step,
    "lock": lock_step,
    "unlock": unlock_step,
}
_WITH_TRANSFER: dict[Step, Callable[[Transfer], Iterator[Event]]] = {
    "compare": compare_step,
    "keep": keep_step,
    "erase": erase_step,
    "write": write_step,
    "verify": verify_step,
}
_PHASES: dict[Step, tuple[Phase, type[Fault]]] = {
    "enter": ("sync", NoAnswerFault),
    "sync": ("sync", NoAnswerFault),
    "chip": ("chip", NoAnswerFault),
    "compare": ("verify", VerifyFault),
    "keep": ("verify", VerifyFault),
    "erase": ("erase", WriteFault),
    "write": ("write", WriteFault),
    "verify": ("verify", VerifyFault),
    "start": ("start", StartFault),
    "put back": ("start", StartFault),
    "talk": ("start", StartFault),
    "read": ("verify", VerifyFault),
    "lock": ("erase", WriteFault),
    "unlock": ("erase", WriteFault),
}


# Why a generator, and why errors are caught here and nowhere below
# -----------------------------------------------------------------
# Steps yield events and never print, sleep or decide what a person sees: the same run feeds the terminal,
# JSON, the journal, a batch of boards and a program that imports us. Whoever iterates sets the pace, and
# leaves by closing the generator: the link is closed in one `finally`.
#
# A step that fails raises the error of the layer where it happened: the dialect's (the chip answered wrongly
# or not at all), the link's (the port went away), or a Fault (a decision of ours, with its finding). What to
# do about the first depends on things that no step knows: whether a lower rate can be taken, whether lines
# can reset the chip, how often that was done already, whether a person was asked to press a button. So it is
# decided in `_run_steps`, from the cheapest remedy to the dearest, and only when none is left the error is
# explained - by experiments on the live line, for which the link is still open.
#
# A refusal after something was changed becomes a write fault: exit status 5 promises that nothing was.
class Runner:
    """One run of a job. `run()` is a generator of events; the link is closed when it ends, however it ends. `outcome`
    gives the result so far at any time."""

    def __init__(self, job: Job, open_link: OpenLink) -> None:
        self.job = job
        self.open_link = open_link
        self._session: Session | None = None
        self._transfer: Transfer | None = None
        self._steps = list(job.steps)
        self._step: Step = job.steps[0]
        self._ended: set[Step] = set()
        self._told: set[str] = set()
        self._started: set[Step] = set()
        self._over = False
        self._reached_the_end = False
        self.fault: Fault | None = None
        """Why it failed, if it has."""

    @property
    def outcome(self) -> Outcome:
        session = self._session
        if session is None:
            return Outcome()
        return Outcome(
            part=session.part if session.known else None,
            unique_id=session.unique_id,
            synced=session.synced,
            state=session.state,
            unproven=tuple(session.unproven),
            backup=session.backup,
            granules=self._transfer.granules if self._transfer else None,
            line=session.line,
            link=session.link,
            elapsed_s=session.elapsed_s,
        )

    def run(self) -> Generator[Event, None, None]:
        job = self.job
        declared = job.choice.title
        yield RunStarted(job.board, declared, job.port, str(job.settings), job.steps)
        try:
            yield from self._to_the_end()
        except KeyboardInterrupt:
            if not self._over:
                yield from self._interrupted()
        finally:
            if self._session is not None and not (job.keeps_open and self._reached_the_end):
                self._session.link.close()

    def _to_the_end(self) -> Iterator[Event]:
        try:
            if self.job.steps[0] == "image":
                yield from self._run_step("image", image_step(self.job))
            session = yield from self._opened()
            try:
                yield from self._run_steps(session)
            except DialectError as error:
                yield from self._failure(self._explained(session, error))
                return
            if self.job.purpose not in ("upload", "start", "lock", "unlock"):
                yield from self._leave(session)
            elif not self._ended & {"put back", "start"} and is_left_to_hands(session):
                session.hands_left = moves_back(session)
            self._reached_the_end = True
            yield self._record(success(session))
        except Fault as fault:
            yield from self._failure(fault)
        except LinkError as error:
            yield from self._failure(link_fault(self.job.port, error))

    def _opened(self) -> Generator[Event, None, Session]:
        """The port step. The session is recorded before anyone hears of it, so that its port is always closed."""
        self._step = "port"
        yield StepStarted("port")
        self._session, evidence = open_session(self.job, self.open_link)
        yield self._record(StepEnded("port", "green", evidence))
        return self._session

    def _run_steps(self, session: Session) -> Iterator[Event]:
        """The steps after the port, one after the other; if the conversation breaks off, again from a point where
        that is harmless."""
        waiting = list(self.job.steps[self.job.steps.index("port") + 1 :])
        while waiting:
            step = waiting.pop(0)
            if step == "start" and self._must_put_back(session):
                self._steps.insert(self._steps.index("start"), "put back")
                waiting.insert(0, step)
                step = "put back"
            try:
                yield from self._run_step(step, self._events_of(step, session))
            except (VerifyFault, RefusedFault) as fault:  # what was refused may be what was damaged
                if not can_go_slower(session, step, fault):
                    raise
                if not (yield from go_slower(session, step, fault.finding.cause)):
                    raise
                waiting = list(steps_again(self.job.steps, step))
            except (Silence, Unexpected, ChipRefusal) as error:
                if self._damaged(session, step, error) and (yield from go_slower(session, step, str(error))):
                    waiting = list(steps_again(self.job.steps, step))
                    continue
                if can_slow_down(session, step, error):
                    yield Noted(step, f"{error}: a lower rate is looked for")
                    yield from slow_down(session, step, error)
                    waiting = self._steps_left(step)
                    continue
                if can_resume_by_hand(session, step):
                    yield Noted(step, f"{error}: perhaps reset was pressed again; asking again")
                    if not (yield from resume_by_hand(session)):
                        raise
                    waiting = list(steps_again(self.job.steps, step))
                    continue
                if isinstance(error, ChipRefusal):
                    raise
                if not can_resume(session, step) or reset_itself(session, _PHASES[step][0], error):
                    raise
                yield Noted(step, f"{error}: reset, and resumed")
                if not resume(session):
                    raise
                waiting = list(steps_again(self.job.steps, step))

    def _must_put_back(self, session: Session) -> bool:
        """Whether hands turned out to be needed that nothing had foreseen: a port without lines, or a loader that a
        button led into."""
        return "put back" not in self._steps and is_left_to_hands(session) and self.job.purpose != "start"

    def _damaged(self, session: Session, step: Step, error: DialectError) -> bool:
        """Whether a failure at the board's own rate is of damaged characters, and a lower rate can be taken."""
        if isinstance(error, NotReset) or not can_go_slower(session, step, error):
            return False
        return isinstance(error, ChipRefusal) or not reset_itself(session, _PHASES[step][0], error)

    def _steps_left(self, step: Step) -> list[Step]:
        """The steps from this one on; what is written already is not written again."""
        if step in ("chip", "compare", "keep", "read", "verify"):
            return list(self.job.steps[self.job.steps.index(step) :])
        if self._transfer is not None:
            leave_out_written(self._transfer)
        return list(steps_again(self.job.steps, step))

    def _events_of(self, step: Step, session: Session) -> Iterator[Event]:
        if step in _WITH_SESSION:
            return _WITH_SESSION[step](session)
        if self._transfer is None:  # only `chip` can be missing: every plan is made there
            return self._identify_chip(session)
        return _WITH_TRANSFER[step](self._transfer)

    def _identify_chip(self, session: Session) -> Iterator[Event]:
        self._transfer = yield from chip_step(session)

    def _run_step(self, step: Step, events: Iterator[Event]) -> Iterator[Event]:
        """Pass on a step's events; a step that had ended already is not reported twice."""
        self._step = step
        if step not in self._started:
            self._started.add(step)
            yield StepStarted(step)
        for event in events:
            if isinstance(event, StepEnded) and self._session is not None:
                for said in self._session.dialect.learned:
                    if said not in self._told:
                        self._told.add(said)
                        yield Noted(step, said)
            if not isinstance(event, StepEnded) or step not in self._ended:
                yield self._record(event)

    def _leave(self, session: Session) -> Iterator[Event]:
        try:
            yield from goodbye(session)
        except DialectError as error:
            yield Noted("chip", f"the bootloader did not confirm that it was left: {error}")
        except LinkLost as lost:
            yield Noted("chip", f"the port went away: {lost.reason}")
        except RateRefused as refused:
            yield Noted("chip", f"the port refused {refused.settings}: reset the board by hand")

    def _record(self, event: Event) -> Event:
        if isinstance(event, StepEnded):
            self._ended.add(event.step)
        self._over = isinstance(event, RunEnded)
        return event

    def _explained(self, session: Session, error: DialectError) -> Fault:
        """The fault behind an error. Raises LinkLost, RateRefused if the port fails during the experiments."""
        phase, kind = _PHASES[self._step]
        if isinstance(error, NotReset):
            return kind.of(
                "not-reset",
                "the bootloader has not been reset since it last wrote",
                ("it erased another page than the first: it counts them, and only a reset sets that back",),
                ("press reset, and upload again at once",),
                "certain",
            )
        if isinstance(error, UnexpectedErase):
            return VerifyFault(erased_unasked(session, error))
        if isinstance(error, ErasedByRefusal):
            return WriteFault(erased_by_refusal(session, error))
        own = into_loader(session.part if session.known else None, error)
        if own is not None:
            return kind(own)
        if phase in ("erase", "write", "verify"):
            listen_for_application(session)
        findings = explain(session, phase, error)
        return RefusedFault(*findings) if findings[0].key == "locked" else kind(*findings)

    # --- ends that are not good

    def _failure(self, fault: Fault) -> Iterator[Event]:
        session, step = self._session, self._step
        state = session.state if session else ChipState.UNTOUCHED
        only_looked = session is not None and session.synced and state is ChipState.UNTOUCHED
        if session is not None and only_looked and isinstance(fault, RefusedFault | VerifyFault):
            yield from self._leave(session)
        if isinstance(fault, RefusedFault) and state is not ChipState.UNTOUCHED:
            fault = WriteFault(*fault.findings)  # a refusal says that nothing was changed
        self.fault = fault
        yield self._record(StepEnded(step, "failed", fault.finding.cause, figures={"finding": fault.finding.key}))
        yield Found(step, fault.findings)
        yield from self._not_reached()
        summary = f"not green after {show_seconds(session.elapsed_s)}" if session else "not green"
        took = session.elapsed_s if session else 0.0
        yield self._record(RunEnded(False, fault.exit_code, took, summary, self._chip_in_words()))

    def _not_reached(self) -> Iterator[Event]:
        for later in self._steps[self._steps.index(self._step) + 1 :]:
            if later not in self._ended:
                yield self._record(StepEnded(later, "not reached", ""))

    def _interrupted(self) -> Iterator[Event]:
        session = self._session
        if self._step == "write" and session is not None and isinstance(session.dialect, Cancels):
            with suppress(LinkLost, DialectError):  # the link is closed next, whatever happens here
                session.dialect.cancel()
        if self._step not in self._ended:
            yield self._record(StepEnded(self._step, "failed", "interrupted"))
        yield from self._not_reached()
        took = session.elapsed_s if session else 0.0
        summary = "interrupted; the port is closed and its lines are released"
        yield RunEnded(False, EXIT_INTERRUPTED, took, summary, self._chip_in_words())

    def _chip_in_words(self) -> str:
        """What an upload that ended badly leaves in the chip, and where the bytes to be kept are."""
        session, writes_only = self._session, self.job.options.writes_only
        if session is None:
            return in_words(self.job.purpose, ChipState.UNTOUCHED, None, writes_only)
        said = in_words(self.job.purpose, session.state, session.progress, writes_only)
        if session.state is ChipState.UNTOUCHED and session.dialect.may_have_erased:
            said = f"{session.dialect.may_have_erased}; upload again"
        if session.aside is None or session.state is ChipState.UNTOUCHED:
            return said
        return f"{said}. What was to be kept is in {session.aside.name}: restore it first"


_DONE = {"backup": "is read", "erase": "is blank there", "lock": "is locked", "unlock": "is unlocked"}


def success(session: Session) -> RunEnded:
    """Every step was done; green if all of them are."""
    green, summary = _summary(session)
    before, after = versions_of(session)
    return RunEnded(
        green, 0, session.elapsed_s, summary, hands=session.hands_left,
        version_before=before.name if before else "", version_after=after.number,
    )  # fmt: skip


def versions_of(session: Session) -> tuple[Version | None, Version]:
    """What the chip held before and what it holds now, as far as either is known."""
    image = session.job.images.get("flash")
    if session.job.purpose != "upload" or image is None or session.job.empties:
        return session.held, Version()
    return session.held, version_of(image)


def _summary(session: Session) -> tuple[bool, str]:
    job, proven = session.job, not session.unproven
    who = job.board or (session.part.title if session.known else job.choice.name)
    if job.purpose == "greet":
        return True, f"{who} answers"
    if job.options.blank and job.purpose == "verify":
        return proven, f"{who} is blank {'there' if proven else 'as far as it shows'}"
    if job.purpose in _DONE:
        return proven, f"{who} {_done(session)}"
    if job.purpose == "start":
        return proven, f"{who} runs" if session.text_heard else f"{who} was started"
    image = job.images.get("flash") or next(iter(job.images.values()))
    changed = change(*versions_of(session))
    what = f"{image.name} ({image.crc32(session.part.flash.erased):08X})" + (f", {changed}" if changed else "")
    if session.partly and job.purpose == "verify":
        return False, f"{who}: {session.partly.removesuffix(' it')} {what} is there"
    if session.partly:
        return False, f"{who} {'runs' if session.text_heard else 'was given'} {what}; {session.partly} is there"
    if "verify" in session.unproven and job.purpose == "verify":
        return False, f"not verified: {who} shows nothing of {what}"
    if "verify" in session.unproven:
        return False, f"written, not verified: {who} was given {what}"
    at = f", at {session.line.baud} baud" if session.line.baud != job.settings.baud else ""
    holds = "has in its RAM" if session.part.holds == "RAM" else "holds"
    return proven, f"{who} {'runs' if session.text_heard else holds} {what}{at}"


def _done(session: Session) -> str:
    """What was done to a chip without an image."""
    if session.unproven == ["read"]:
        return "is read, except for what it cannot show"
    if session.job.options.writes_only:
        return "had its write protection lifted"
    if session.partly:
        return "is blank as far as it shows"
    return "acknowledged, and did not show it" if session.unproven else _DONE[session.job.purpose]


def poll_for_chip(job: Job, open_link: OpenLink) -> str | None:
    """The number of the chip that answers after a reset by the lines; empty if it reports none, None if nothing
    answers. The application is started again. Only for boards that lines reset."""
    looking = replace(job, purpose="greet", images={}, patience_s=None, keeps_open=False)
    try:
        session, _ = open_session(looking, open_link)
    except (Fault, LinkLost, DialectError):
        return None
    try:
        _go_through(enter_step(session))
        if session.reset_by is not ResetBy.LINES or not reset_and_ask(session):
            return None
        with suppress(Fault, DialectError):  # whatever it is, something is there: the upload will say what
            _go_through(chip_step(session))
        with suppress(DialectError):
            _go_through(goodbye(session))
        return session.unique_id
    except (Fault, LinkLost, DialectError):
        return None
    finally:
        session.link.close()


def _go_through(step: Iterable[Event]) -> None:
    for _ in step:
        pass
