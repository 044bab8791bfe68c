"""A rate below the board's own, where that damages characters: for loaders that measure the rate at each reset."""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import replace

from ..dialects.errors import ChipRefusal, RefusalKind, Silence
from ..errors import Fault
from ..events import Event, Noted, Step
from ..link import RateRefused, ResetBy
from .resuming import RESUMABLE, begin_again
from .session import Session

_BAUDS = (57_600, 38_400, 19_200, 9_600)
_AT_MOST = 0.5
"""How much of the rate that hurts the next one is: noise grows fast with the rate, and time is dear."""
_HURTS, _TIMES = 3, 2
_STAYS = ("written-beside", "erased-beside")
"""What a second upload does not mend: it must be told."""


def can_go_slower(session: Session, step: Step, error: Exception) -> bool:
    """Whether this conversation has shown damage, and a lower rate than the board's own can be taken. Data that is
    refused again and again may have been damaged, too: once. Who only fell silent is first reset, and asked again."""
    silent = isinstance(error, Silence) and not error.heard and not session.resumed
    stays = isinstance(error, Fault) and error.finding.key in _STAYS
    refused = isinstance(error, ChipRefusal) and error.kind is RefusalKind.BAD_DATA and not session.slowed
    return (
        step in RESUMABLE
        and not silent
        and not stays
        and session.reset_by is ResetBy.LINES
        and session.slowed < _TIMES
        and session.line.baud <= session.job.settings.baud
        and session.dialect.disturbed >= (1 if refused else _HURTS)
        and _next_below(session) is not None
    )


def _next_below(session: Session) -> int | None:
    """The next lower rate that this loader measures, or can be told."""
    asking = session.job.dialect.spec.asking
    if not asking.measures_rate and not asking.at_baud:
        return None
    least = asking.at_baud or 0
    rates = (baud for baud in _BAUDS if least <= baud <= session.line.baud * _AT_MOST)
    return next((baud for baud in rates if not asking.at_baud or session.dialect.offers_rate(baud)), None)


def go_slower(session: Session, step: Step, why: str) -> Generator[Event, None, bool]:
    """Begin the conversation again at the next lower rate. Returns whether the same chip answers there."""
    baud, before, usual = _next_below(session), session.dialect, session.line
    assert baud is not None
    session.line_hurt = True
    session.notes.forget_listening()
    if step == "chip":
        session.known = None  # it is asked again, and what it said may have been damaged
    session.line = replace(usual, baud=baud)
    try:
        answers = begin_again(session)
    except RateRefused:
        answers = False
    if answers:
        session.slowed += 1
        session.dialect.take_over(before)
        yield Noted(step, f"{why}: once more, at {baud} baud")
        return True
    session.slowed, session.line = _TIMES, usual
    yield Noted(step, f"{why}; it does not answer at {baud} baud")
    return False
