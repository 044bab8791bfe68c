"""Asking until the bootloader answers: after resets by lines, or by hand."""

from __future__ import annotations

import re
from collections.abc import Generator

from ..events import Event, HandsWanted, StepAdvanced
from ..link import Deadline
from .causes import enter
from .session import Session

BY_HAND_PATIENCE_S = 20.0
_BREAK_BY_HAND_S = 0.4

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


def _ask_as_known(session: Session) -> str | None:
    """Whether it answers as a loader that an earlier conversation left running, at the rate it was left at."""
    first, later, wait_s = session.first_settings, session.line, session.job.dialect.spec.asking.wait_s
    answer = session.dialect.ask_as_known(wait_s)
    if answer is None and first != later:
        session.link.configure(later)
        answer = session.dialect.ask(wait_s) or session.dialect.ask_as_known(wait_s)
        if answer is None:
            session.link.configure(first)
    return answer


def _answers_late(session: Session) -> bool:
    """Whether its answers were heard, though none in time."""
    spec = session.job.dialect.spec
    heard = session.link.between(session.notes.asked_mark, None, "heard")
    return any(answer in heard for answer in spec.asking.answers) or any(
        re.search(sound, heard, re.DOTALL) for sound in spec.asking.sounds
    )


def reset_and_ask(session: Session) -> bool:
    """Whether the bootloader answers after one of the dialect's resets."""
    asking = ask_after_resets(session)
    while True:
        try:
            next(asking)
        except StopIteration as end:
            return end.value[0] is not None


def ask_by_hand(session: Session) -> Generator[Event, None, _Asked]:
    """Ask until the patience runs out; tell the person what to do once it is clear that nobody answers yet."""
    link, dialect, spec = session.link, session.dialect, session.job.dialect.spec
    patience = BY_HAND_PATIENCE_S if session.job.patience_s is None else session.job.patience_s
    deadline = Deadline.after(link, patience)
    tries, told_at = 0, -1
    while True:
        tries += 1
        if spec.asking.breaks_in:  # this loader waits for a reset during the break
            link.set_break(True)
            link.sleep(_BREAK_BY_HAND_S)
            link.set_break(False)
        answer = dialect.ask(spec.asking.wait_s)
        if answer is not None:
            before = min(tries - 1, spec.asking.attempts[0].asks)
            dialect.asked_before(before, (before + 1) * spec.asking.wait_s)
            return answer, tries
        if tries == 1 and (answer := _ask_as_known(session)) is not None:
            return answer, tries
        if deadline.over:
            return None, tries
        if tries == 2:
            yield HandsWanted("sync", session.job.choice.hands.enter, patience)
        waited = int(session.notes.asked_s)
        if waited > told_at:
            told_at = waited
            yield StepAdvanced("sync", waited, int(patience), "seconds", float(waited))
