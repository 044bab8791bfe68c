"""Asking until the bootloader answers: after resets by lines, or while a person is waited for. What the board sends
meanwhile is judged as it comes."""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import replace

from ..dialects.abilities import AskedAsKnown
from ..dialects.dialect import Dialect
from ..errors import Finding
from ..events import Event, HandsWanted, HeardMeanwhile, StepAdvanced
from ..findings.diagnosis import diagnose
from ..findings.observations import Observations
from ..link import Deadline
from ..quantities import show_heard
from ..trace.recording import RecordingLink
from .explain import enter, observe
from .job import BY_HAND_PATIENCE_S
from .session import Session, dialect_for

# Why asking is an art
# --------------------
# A loader is asked without knowing whether it is there, whether it is ready, or at what moment it was reset.
# Pauses after a reset vary on purpose: a fixed pause that is wrong for a board is wrong every time. Questions
# wait briefly at first, since a loader that gives up after a second must hear one in time, and now and then
# as long as an answer can be late, since an adapter may add that much.
#
# A person who holds a button is slower than any of this and does things twice. So asking by hand goes on
# until the patience is over, judges what the board sends meanwhile ("this is your program: the boot pin was
# not held"), says it while there is still time to act on it, and gives a person who was told something the
# time to do it.
_LAST_MOMENT_S = 0.6
"""A reset in the last moment of the patience is still answered."""
_TO_REACT_S = 8.0
"""Who is told something has so long to act on it, though the patience be over."""
_PATIENT_EVERY_S = 5.0
_PRESSED_TWICE_S = 0.6
_FIRST_BREAK_S, _BREAK_S, _GAP_S, _SLICE_S = 0.4, 3.0, 0.06, 0.25
"""A reset in the gap between two breaks leads into the program: it is a fiftieth of the time."""

_Asked = tuple[str | None, int]


def ask_after_resets(session: Session) -> Generator[Event, None, _Asked]:
    """Ask a few times after each reset; the pauses between reset and question vary on purpose. A patience that is
    said may be over before all of them were tried, but not after the first."""
    link, dialect, spec = session.link, session.dialect, session.job.dialect.spec
    attempts = spec.asking.attempts
    patience = session.job.patience_s
    deadline = Deadline.after(link, patience or 0.0)
    least = len(attempts) if patience is None else 2
    tries = 0
    for settles in range(1000):
        if settles >= least and deadline.over:
            return None, tries
        if settles:
            enter(session)
        attempt = attempts[settles % len(attempts)]
        link.sleep(attempt.settle_s)
        early = link.discard() if spec.asking.sent else b""  # someone who only listens wants to hear all of it
        moved_s = link.last_at("lines")
        if early and not session.notes.early:
            session.notes.early = early
            session.notes.unasked_s = link.now() - moved_s if moved_s is not None else 0.0
        last, began_s = settles == len(attempts) - 1, link.now()
        for asking in range(attempt.asks):
            if patience and deadline.over and asking:
                break
            tries += 1
            # before giving up: one question after a reset, then the remaining time for a late answer
            late_s = dialect.patience_s if last and not asking and _answers_late(session) else 0.0
            answer = dialect.ask(max(spec.asking.wait_s, late_s))
            if answer is not None:
                dialect.asked_before(asking, link.now() - began_s)
                session.settle_s, session.asks = attempt.settle_s, asking + 1
                return answer, tries
        if patience:
            waited = int(session.notes.asked_s)
            yield StepAdvanced("sync", min(waited, int(patience)), int(patience), "seconds", float(waited))
    return _ask_as_known(session), tries


def ask_as_known(dialect: Dialect, wait_s: float) -> str | None:
    """The answer of a loader that an earlier conversation left running, if that needs another question."""
    return dialect.ask_as_known(wait_s) if isinstance(dialect, AskedAsKnown) else None


def _ask_as_known(session: Session) -> str | None:
    """Whether it answers as a loader that an earlier conversation left running, at the rate it was left at."""
    first, later, wait_s = session.first_settings, session.line, session.job.dialect.spec.asking.wait_s
    answer = ask_as_known(session.dialect, wait_s)
    if answer is None and first != later:
        session.link.configure(later)
        answer = session.dialect.ask(wait_s) or ask_as_known(session.dialect, wait_s)
        if answer is None:
            session.link.configure(first)
    return answer


def _answers_late(session: Session) -> bool:
    """Whether its answers were heard, though none in time."""
    return session.dialect.is_heard_in(session.link.between(session.notes.asked_mark, None, "heard"))


def reset_and_ask(session: Session) -> bool:
    """Whether the bootloader answers after one of the dialect's resets."""
    asking = ask_after_resets(session)
    while True:
        try:
            next(asking)
        except StopIteration as end:
            return end.value[0] is not None


def ask_by_hand(session: Session) -> Generator[Event, None, _Asked]:
    """Ask until the patience runs out. Once it is clear that nobody answers yet, tell the person what to do; and as
    soon as anything is heard that is no answer, what it means."""
    spec, meanwhile, manner = session.job.dialect.spec, Meanwhile(session), _Manner(session)
    patience = BY_HAND_PATIENCE_S if session.job.patience_s is None else session.job.patience_s
    deadline, last_moment_s = Deadline.after(session.link, patience), 0.0
    tries, told_at = 0, -1
    while True:
        tries += 1
        answer, finding = manner.ask(tries), None
        if answer is not None:
            before = min(tries - 1, spec.asking.attempts[0].asks)
            answered_s = session.link.now()
            session.dialect.asked_before(before, (before + 1) * spec.asking.wait_s)
            if tries < 3 or manner.stays(answered_s):
                return answer, tries
            finding = meanwhile.gone()
        if tries == 1 and (answer := _ask_as_known(session)) is not None:
            return answer, tries
        if tries > 2 and (finding := finding or meanwhile.new(spec.rom_speaks)) is not None:
            if session.job.patience_s is None:
                deadline = Deadline(session.link, max(deadline.at, session.link.now() + _TO_REACT_S))
            yield HeardMeanwhile("sync", finding, session.job.hands.enter)
        if deadline.over and session.link.now() - deadline.at >= last_moment_s:
            return None, tries
        if tries == 2:
            session.hands_asked = True
            deadline, last_moment_s = Deadline.after(session.link, patience), _LAST_MOMENT_S
            yield HandsWanted("sync", session.job.hands.enter, patience)
        waited = int(session.notes.asked_s)
        if waited > told_at:
            told_at = waited
            yield StepAdvanced("sync", min(waited, int(patience)), int(patience), "seconds", float(waited))


class _Manner:
    """How one question after the other is asked while a person may press reset at any moment.

    A question waits briefly, so that a loader which gives up soon hears one in time; now and then as long as an
    answer can be late. A loader that is entered through a break finds TX low nearly all the time.
    """

    def __init__(self, session: Session) -> None:
        self._session = session
        self._patient_at_s = 0.0

    def ask(self, tries: int) -> str | None:
        session, asking = self._session, self._session.job.dialect.spec.asking
        wait_s = asking.wait_s
        if asking.enters_on_break and tries > 2:
            wait_s = _GAP_S
            _hold_break(session.link, _BREAK_S)
        elif asking.enters_on_break:
            _hold_break(session.link, _FIRST_BREAK_S)
        session.dialect.brief = tries < 3 or not self._is_patient()
        try:
            return session.dialect.ask(wait_s)
        finally:
            session.dialect.brief = False

    def stays(self, since_s: float) -> bool:
        """Whether it still answers a moment later. Many press twice to be sure; what a loader that measures the rate
        hears first after the second reset must be a question, and no command."""
        spec = self._session.job.dialect.spec
        if spec.gives_up or spec.asking.once or not spec.asking.measures_rate:
            return True
        link = self._session.link
        if spec.asking.enters_on_break:
            _hold_break(link, _PRESSED_TWICE_S)
        else:
            link.sleep(max(0.0, since_s + _PRESSED_TWICE_S - link.now()))
        dialect, wait_s = self._session.dialect, spec.asking.wait_s
        dialect.was_reset()
        if dialect.ask(wait_s) is not None or ask_as_known(dialect, wait_s) is not None:
            return True
        self._session.dialect = dialect_for(self._session.job, link)
        return any(self._session.dialect.ask(wait_s) is not None for _ in range(3))

    def _is_patient(self) -> bool:
        session, spec = self._session, self._session.job.dialect.spec
        if _answers_late(session):
            return True
        only_listens = not spec.asking.sent
        if spec.gives_up or only_listens or spec.asking.enters_on_break or session.link.now() < self._patient_at_s:
            return False
        self._patient_at_s = session.link.now() + _PATIENT_EVERY_S
        return True


def _hold_break(link: RecordingLink, seconds: float) -> None:
    """Hold TX at space: a loader that looks at its RX when reset is released stays active, whenever that is. In the
    gaps between two breaks a reset leads into the program, so they are as short as a question."""
    link.set_break(True)
    try:
        deadline = Deadline.after(link, seconds)
        while not deadline.over:
            link.read(256, min(_SLICE_S, deadline.left_s))  # what a program says meanwhile is heard too
    finally:
        link.set_break(False)


_PAUSE_S = 0.12
"""So long nothing more must come before it is judged: half a line of text is no noise."""
_MUCH, _NOISE = 48, 8
"""Bytes that are judged though more is coming; and so many that are more than a switch that bounces."""
_AT_ONCE_S = 1.5
_DOUBTFUL = ("garbage", "wrong-rate", "wrong-frame")
_PROGRAM = ("application", "reset-too-early")
_SAYS_NOTHING = ("silence-by-hand", "silence-no-lines", "silence-lines", "silent-since-reset")
_ANSWERED_S = 1.0
_RESET_AGAIN = "reset-again"


def _reset_again(session: Session) -> Finding:
    heard = show_heard(session.notes.answers)
    cause = "its bootloader was heard, and answers no more: it was reset once more, or missed a character"
    return Finding(_RESET_AGAIN, cause, (f"heard {heard}",), ("press reset once, and wait",), "likely")


class Meanwhile:
    """Judges what has come since the session began to ask. Each finding is returned once."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self._told: set[str] = set()
        self._judged = 0
        self._pending = 0

    def new(self, may_be_the_loader: bool) -> Finding | None:
        """To be called after each question that was not answered: the finding about what has come, if there is one
        that was not returned before. `may_be_the_loader`: what a ROM prints as its loader comes up is not told, and
        so another question must remain unanswered."""
        link = self._session.link
        fresh, pending = link.heard_total - self._judged, self._pending
        self._pending = link.heard_total
        last_s = link.last_at("heard") if fresh else None
        if last_s is None or (link.now() - last_s < _PAUSE_S and fresh < _MUCH):
            return None
        if may_be_the_loader and pending <= self._judged:
            return None
        answered = self._session.dialect.is_heard_in(self._session.notes.answers)
        if answered and link.now() - last_s < _ANSWERED_S:  # the next question is answered, or it is stuck
            return None
        self._judged = link.heard_total
        if answered:
            return self._once(_RESET_AGAIN, _reset_again(self._session))
        told_as, finding = self._judgement(observe(self._session, "sync"))
        return self._once(told_as, finding)

    def _once(self, told_as: str, finding: Finding | None) -> Finding | None:
        if finding is None or told_as in self._told:
            return None
        self._told.add(told_as)
        return finding

    def gone(self) -> Finding | None:
        """The bootloader had answered, and a moment later did not."""
        return self._once(_RESET_AGAIN, _reset_again(self._session))

    def _judgement(self, seen: Observations) -> tuple[str, Finding | None]:
        """The finding, and a word by which it is told once."""
        finding, heard = diagnose(seen)[0], seen.heard.answers
        noise = finding.key in _DOUBTFUL and len(heard) < _NOISE
        if finding.key in _SAYS_NOTHING or noise:
            return "", None
        if finding.key in _PROGRAM and not seen.began_anew and seen.quiet_s < _AT_ONCE_S:
            cause = "the program runs, and hears what is asked: nobody has pressed reset yet"
            return "runs", replace(finding, key="application", cause=cause, evidence=(f"heard {show_heard(heard)}",))
        return finding.key, finding
