"""Climbing: the steps in order, and what becomes of every way they can end."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import suppress

from ..dialects.avr_looking import into_loader
from ..dialects.base import DialectError, ErasedUnasked, NotReset, Silence, Unexpected
from ..errors import (
    EXIT_INTERRUPTED,
    Fault,
    Finding,
    NoAnswerFault,
    PortFault,
    RefusedFault,
    StartFault,
    VerifyFault,
    WriteFault,
)
from ..events import ClimbEnded, ClimbStarted, Event, Found, Noted, Step, StepEnded, StepStarted
from ..findings import diagnose
from ..findings.observations import Phase
from ..findings.port_rules import PortSeen, diagnose_port
from ..link import LinkLost, RateRefused
from ..quantities import show_address, show_seconds
from .approach import chip_step, enter_step, image_step, port_step, sync_step
from .causes import listen_for_application
from .comparing import compare_step
from .departure import goodbye, start_step
from .evidence import observe
from .job import Job, OpenLink
from .keeping import keep_step
from .overrun import erased_unasked
from .regions import lock_step, read_step, unlock_step
from .resuming import can_resume, reset_itself, resume, steps_again
from .scene import Scene
from .talking import talk_step
from .transfer import erase_step, verify_step, write_step

_STEPS: dict[Step, Callable[[Scene], Iterator[Event]]] = {
    "image": image_step,
    "port": port_step,
    "enter": enter_step,
    "sync": sync_step,
    "chip": chip_step,
    "compare": compare_step,
    "keep": keep_step,
    "erase": erase_step,
    "write": write_step,
    "verify": verify_step,
    "start": start_step,
    "talk": talk_step,
    "read": read_step,
    "lock": lock_step,
    "unlock": unlock_step,
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
    "talk": ("start", StartFault),
    "read": ("verify", VerifyFault),
    "lock": ("erase", WriteFault),
    "unlock": ("erase", WriteFault),
}


class Climb:
    """One climb. `run()` is a generator of events; the link is closed when it ends, however it ends."""

    def __init__(self, job: Job, open_link: OpenLink) -> None:
        self.scene = Scene(job, open_link)
        self._step: Step = job.steps[0]
        self._ended: set[Step] = set()
        self._started: set[Step] = set()
        self._over = False
        self._reached_the_end = False

    def run(self) -> Iterator[Event]:
        job = self.scene.job
        declared = job.choice.single.title if job.choice.single else job.choice.name
        yield ClimbStarted(job.board, declared, job.port, str(job.settings), job.steps)
        try:
            yield from self._climb()
        except KeyboardInterrupt:
            if not self._over:
                yield from self._interrupted(self._step)
        finally:
            if self.scene.link is not None and not (job.keeps_open and self._reached_the_end):
                self.scene.link.close()

    def _climb(self) -> Iterator[Event]:
        try:
            yield from self._climb_steps()
            if self.scene.job.purpose not in ("upload", "start", "lock", "unlock"):
                yield from self._leave()
            self._reached_the_end = True
            yield self._noticed(self._success())
        except Fault as fault:
            yield from self._failure(self._step, fault)
        except LinkLost as lost:
            yield from self._failure(self._step, self._lost(lost))
        except RateRefused as refused:
            seen = PortSeen(self.scene.job.port, "setting", setting=str(refused.settings))
            yield from self._failure(self._step, PortFault(diagnose_port(seen)))
        except DialectError as error:
            yield from self._failure(self._step, self._explained(self._step, error))

    def _climb_steps(self) -> Iterator[Event]:
        """One after the other; where the conversation breaks off, once more from a place that harms none."""
        waiting = list(self.scene.job.steps)
        while waiting:
            step = self._step = waiting.pop(0)
            if step not in self._started:
                self._started.add(step)
                yield StepStarted(step)
            try:
                for event in _STEPS[step](self.scene):
                    if not isinstance(event, StepEnded) or step not in self._ended:
                        yield self._noticed(event)
            except (Silence, Unexpected) as error:
                if not can_resume(self.scene, step) or reset_itself(self.scene, _PHASES[step][0], error):
                    raise
                yield Noted(step, f"{error}: reset, and taken up again")
                if not resume(self.scene):
                    raise
                waiting = list(steps_again(self.scene.job.steps, step))

    def _leave(self) -> Iterator[Event]:
        try:
            yield from goodbye(self.scene)
        except DialectError as error:
            yield Noted("chip", f"the bootloader did not confirm that it was left: {error}")
        except LinkLost as lost:
            yield Noted("chip", f"the port went away: {lost.reason}")

    def _noticed(self, event: Event) -> Event:
        if isinstance(event, StepEnded):
            self._ended.add(event.step)
        self._over = isinstance(event, ClimbEnded)
        return event

    def _lost(self, lost: LinkLost) -> Fault:
        return PortFault(diagnose_port(PortSeen(self.scene.job.port, "vanished", lost.reason)))

    def _explained(self, step: Step, error: DialectError) -> Fault:
        """The fault behind an error; the port may go away while that is looked into."""
        try:
            return self._explain(step, error)
        except LinkLost as lost:
            return self._lost(lost)

    def _explain(self, step: Step, error: DialectError) -> Fault:
        phase, kind = _PHASES[step]
        if isinstance(error, NotReset):
            return kind(
                Finding(
                    "not-reset",
                    "the bootloader has not been reset since it last wrote",
                    ("it erased another page than the first: it counts them, and only a reset sets that back",),
                    ("press reset, and upload again at once",),
                    "certain",
                )
            )
        if isinstance(error, ErasedUnasked):
            return VerifyFault(erased_unasked(self.scene, error))
        own = into_loader(self.scene.part, error)
        if own is not None:
            return kind(own)
        if phase in ("erase", "write", "verify"):
            listen_for_application(self.scene)
        findings = diagnose(observe(self.scene, phase, error))
        if findings[0].key == "locked":
            kind = RefusedFault
        return kind(*findings)

    # --- ends

    def _success(self) -> ClimbEnded:
        scene, job = self.scene, self.scene.job
        took = scene.elapsed_s
        who = job.board or (scene.part.title if scene.part else job.choice.name)
        image = job.images.get("flash") or next(iter(job.images.values()), None)
        what = "" if image is None else f"{image.name} ({image.crc32(self._fill()):08X})"
        if job.purpose == "greet":
            return ClimbEnded(True, 0, took, f"{who} answers")
        said = {"backup": "is read", "erase": "is blank there", "lock": "is locked", "unlock": "is unlocked"}
        if job.purpose in said:
            done = said[job.purpose] if not scene.unproven else "acknowledged, and did not show it"
            if scene.unproven == ["read"]:
                done = "is read but for what it does not show"
            elif job.wishes.writes_only:
                done = "was told to let itself be written"
            elif scene.hidden:
                done = "is blank as far as it shows"
            return ClimbEnded(not scene.unproven, 0, took, f"{who} {done}")
        if job.purpose == "start":
            text = f"{who} runs" if scene.text_heard else f"{who} was started"
            return ClimbEnded(not scene.unproven, 0, took, text)
        if scene.hidden and job.purpose == "verify":
            return ClimbEnded(False, 0, took, f"{who}: what it can show of {what} is there")
        if scene.hidden and not scene.text_heard:
            return ClimbEnded(False, 0, took, f"{who} was given {what}; what it can show of it is there")
        if scene.hidden:  # a program whose first bytes were wrong would not run
            scene.unproven.remove("verify")
        if "verify" in scene.unproven and job.purpose == "verify":
            return ClimbEnded(False, 0, took, f"not verified: {who} shows nothing of {what}")
        if "verify" in scene.unproven:
            return ClimbEnded(False, 0, took, f"written, not verified: {who} was given {what}")
        verb = "runs" if scene.text_heard else "holds"
        return ClimbEnded(not scene.unproven, 0, took, f"{who} {verb} {what}")

    def _fill(self) -> int:
        return (self.scene.part or self.scene.job.choice.first).flash.erased

    def _failure(self, step: Step, fault: Fault) -> Iterator[Event]:
        only_looked = self.scene.synced and not self.scene.changed
        if only_looked and isinstance(fault, RefusedFault | VerifyFault):
            yield from self._leave()
        yield self._noticed(StepEnded(step, "failed", fault.finding.cause, figures={"finding": fault.finding.key}))
        yield Found(step, fault.findings)
        yield from self._not_reached(step)
        summary = f"not green after {show_seconds(self.scene.elapsed_s)}" if self.scene.link else "not green"
        state = self._chip_state(fault)
        yield self._noticed(ClimbEnded(False, fault.exit_code, self.scene.elapsed_s, summary, state))

    def _not_reached(self, step: Step) -> Iterator[Event]:
        steps = self.scene.job.steps
        for later in steps[steps.index(step) + 1 :]:
            if later not in self._ended:
                yield self._noticed(StepEnded(later, "not reached", ""))

    def _interrupted(self, step: Step) -> Iterator[Event]:
        if step == "write" and self.scene.dialect is not None:
            with suppress(LinkLost, DialectError):  # the link is closed next, whatever comes of it
                self.scene.dialect.abandon()
        if step not in self._ended:
            yield self._noticed(StepEnded(step, "failed", "interrupted"))
        yield from self._not_reached(step)
        yield ClimbEnded(
            False,
            EXIT_INTERRUPTED,
            self.scene.elapsed_s,
            "interrupted; the port is closed and its lines are released",
            self._chip_state(None),
        )

    def _chip_state(self, fault: Fault | None) -> str:
        """What an upload that did not end well leaves in the chip, and where what was to be kept is."""
        state, aside = self._content(fault), self.scene.aside
        if aside is None or not self.scene.changed:
            return state
        return f"{state}. What was to be kept is in {aside.name}: restore it first"

    def _content(self, fault: Fault | None) -> str:
        changed, progress = self.scene.changed, self.scene.progress
        if self.scene.job.purpose in ("greet", "verify", "start", "backup"):
            return ""
        if isinstance(fault, RefusedFault) or not changed:
            return "nothing on the chip was changed"
        if changed in ("lock", "unlock"):
            erases = changed == "unlock" and not self.scene.job.wishes.writes_only
            erased = "; an unlock erases the flash" if erases else ""
            return f"the {changed} was begun{erased}; greet shows whether the chip is locked"
        if self.scene.job.purpose == "erase":
            return "erasing had begun: the chip holds no whole application"
        if changed == "erase":
            return "erasing had begun: the chip holds no whole application; upload again"
        if changed == "write" and progress is not None:
            part = f"{progress.done:,} of {progress.total:,} bytes are written"
            last = f", up to the block at {show_address(progress.address)}" if progress.done else ""
            return f"{part}{last}: the chip holds no whole application; upload again"
        if self.scene.differs:
            return "what the chip holds is not the image; upload again"
        if changed == "verify":
            return "all is written, and not verified"
        return "the image is written and verified; only the start is not proven"
