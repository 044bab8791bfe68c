"""A conversation that broke off is begun again: reset by lines, synchronised, and resumed with the same chip."""

from __future__ import annotations

from collections.abc import Generator

from ..dialects.abilities import ChangesRate, TakesOver
from ..dialects.dialect import Dialect
from ..dialects.errors import DialectError
from ..events import Event, Step
from ..findings.chip_rules import restarted
from ..findings.observations import Phase
from ..link import ResetBy
from .chip_state import ChipState
from .explain import enter, listen_for_application, observe
from .poll import ask_by_hand, reset_and_ask
from .session import Session, dialect_for

# Why a run goes on after a break, and how far back it begins
# -----------------------------------------------------------
# Half of all failures in the middle of an upload are a chip that restarted (weak supply, a bouncing reset
# line) or a loader that lost its place. A person would press reset and upload again, and so does this: once
# or twice, and only where lines reset the chip, since asking somebody to press a button twice is no help.
#
# It must be the same chip: the number of its kind is compared, and its own number where it has one, as
# another board may have been plugged in. Then everything that changes the chip begins again from erasing
# (`steps_again`): what was half programmed cannot be completed, as a word that is programmed twice may differ
# from both values.
#
# A program that is heard where an answer was due means that the chip was reset by something else. That is reported
# and not repeated: the next attempt would end in the same way.
MOST_TIMES, MOST_TIMES_BY_HAND = 2, 4
_PRESSED_AGAIN_S = 10.0
_LATE_TIMES = 3
RESUMABLE: tuple[Step, ...] = ("chip", "compare", "keep", "erase", "write", "verify", "read")
"""Steps that may safely begin again: what they change is erased, written and proven afresh."""


def can_resume(session: Session, step: Step) -> bool:
    """Whether the chip can be reset and asked again without a person."""
    return step in RESUMABLE and session.reset_by is ResetBy.LINES and session.resumed < MOST_TIMES


def can_resume_by_hand(session: Session, step: Step) -> bool:
    """Whether the person may have pressed reset once more, not knowing that it had worked already."""
    return (
        step in RESUMABLE
        and session.hands_asked
        and session.resumed < MOST_TIMES_BY_HAND
        and (session.link.last_at("heard") or 0.0) - session.synced_at_s < _PRESSED_AGAIN_S
    )


def reset_itself(session: Session, phase: Phase, error: DialectError) -> bool:
    """Whether the chip's program is heard where a reply was due: it was reset in between, by a weak supply or a line
    left asserted. That is reported rather than retried, except where a loader that misses a byte starts its program
    too. Late bytes still pass meanwhile."""
    listen_for_application(session)
    if session.job.dialect.spec.gives_up:
        return False
    itself = restarted(observe(session, phase, error)) is not None
    if not itself:
        session.link.read(1 << 16, _LATE_TIMES * session.job.dialect.answer_s)
    return itself


def take_over(session: Session, before: Dialect) -> None:
    """The chip answers again: what the conversation `before` has left open is looked at. Raises DialectError."""
    if isinstance(session.dialect, TakesOver):
        session.dialect.take_over(before)


def resume(session: Session) -> bool:
    """Whether the same chip answers again after a reset."""
    session.resumed += 1
    session.line_hurt = True
    session.notes.forget_listening()
    before = session.dialect
    if not begin_again(session):
        return False
    take_over(session, before)
    return True


def resume_by_hand(session: Session) -> Generator[Event, None, bool]:
    """The same, if a person resets."""
    session.resumed += 1
    session.notes.forget_listening()
    before = session.dialect
    session.link.configure(session.first_settings)
    session.dialect = dialect_for(session.job, session.link)
    session.notes.begin_asking()
    answer, _ = yield from ask_by_hand(session)
    if answer is None or not _same_chip(session):
        return False
    session.synced_at_s = session.link.now()
    take_over(session, before)
    return True


def begin_again(session: Session) -> bool:
    """Whether the same chip answers after a reset, at the rate that it is to be talked to."""
    link, job = session.link, session.job
    link.configure(session.first_settings)
    session.dialect = dialect_for(job, link)
    try:
        enter(session)
        return reset_and_ask(session) and _same_chip(session)
    except DialectError:
        return False


def _same_chip(session: Session) -> bool:
    """Whether what answers is the chip that is known already; then it is at the conversation's rate."""
    link = session.link
    try:
        if session.known is None:
            return True
        identity = session.dialect.identify()
        examination = session.dialect.examine(session.part)
        if examination.locked or identity.ident != session.known[0]:
            return False
        if examination.unique_id != session.known[1]:
            # nothing guards the number: one of the readings may be damaged, as long as nothing was done to the chip
            again = session.dialect.examine(session.part).unique_id
            damaged = again == session.known[1] or (
                again == examination.unique_id
                and session.state is ChipState.UNTOUCHED
                and examination.part == session.part
            )
            if not damaged:
                return False
            session.known, session.unique_id = (identity.ident, again), again
        if link.settings.baud != session.line.baud and isinstance(session.dialect, ChangesRate):
            session.dialect.move_to_rate(session.part, session.line.baud)
    except DialectError:
        return False
    return True


def steps_again(steps: tuple[Step, ...], step: Step) -> tuple[Step, ...]:
    """The steps to repeat after a break in `step`: all that change the chip, from the first one."""
    again: tuple[Step, ...] = ("erase", "write", "verify")
    first = min((steps.index(name) for name in again if name in steps), default=0)
    return steps[first:] if step in again else steps[steps.index(step) :]
