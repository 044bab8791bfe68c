"""Looking into a silence, before the finding: what is heard after a reset, at another rate, in another dialect."""

from __future__ import annotations

from contextlib import suppress

from ..dialects.dialect import Dialect
from ..dialects.registry import all_dialects
from ..findings.boot_text import ROM_RATES, read_boot_text
from ..findings.hearing import is_text
from ..findings.line_rules import may_speak_otherwise, other_dialect, runs_already
from ..findings.rate_rules import likelier_rates
from ..link import Deadline, LineSettings, RateRefused, ResetBy
from .evidence import observe
from .session import Session

_LONGEST_FOREIGN_S = 5.0
_NEXT_WORDS_S = 1.5
_TALKS_AGAIN_S, _ENOUGH = 6.0, 24


def enter(session: Session, dialect: type[Dialect] | None = None) -> None:
    """Run the sequence that enters the bootloader, through a break where its loader (or that of the `dialect`
    named) wants one. Raises LinesMissing, LinkLost."""
    sequence = session.job.hookup.enter
    if sequence is None:  # then nothing but a person enters it
        return
    if (
        sequence.touches and session.reset_by is ResetBy.LINES
    ):  # it came back as its bootloader, or will not by more of the same
        session.link.sleep(0.2)
        return
    session.driver.run(sequence, (dialect or session.job.dialect).spec.asking.breaks_in)
    session.dialect.was_reset()


def listen_for_causes(session: Session) -> None:
    """Before the finding: reset once more and only listen, as the application's own console would be heard; then
    look into what that gave, at another rate or in another dialect."""
    link = session.link
    _listen_at_the_console(session)
    _hear_after_reset(session)
    session.notes.end_listening()
    seen = observe(session, "sync")
    if other_dialect(seen) is not None:
        return
    if _rom_speaks_at_its_own_rate(session, seen.heard.after + seen.heard.answers):
        return
    rates = likelier_rates(seen)
    if rates:
        _try_rates(session, rates[:RATES_TRIED])
    elif may_speak_otherwise(seen) and not _answers_at(session, session.job.dialect.spec.asking.other_bauds):
        mark = link.mark
        _ask_in_other_dialects(session, only_hasty=runs_already(seen))
        if not seen.heard.everything and session.notes.answered_other is None and link.between(mark, None, "heard"):
            _hear_who_talks_now_and_then(session)


def _rom_speaks_at_its_own_rate(session: Session, heard: bytes) -> bool:
    """Whether what a ROM printed at reset reads as its text at a rate of its own."""
    if not session.job.dialect.spec.rom_speaks or len(heard) < 3 or is_text(heard, session.job.console.frame):
        return False
    for rate in ROM_RATES:
        settings = LineSettings(rate, session.job.console.frame)
        if settings != session.job.console and read_boot_text(_heard_at(session, settings)) is not None:
            return True
    session.notes.reheard = None
    return False


def _hear_who_talks_now_and_then(session: Session) -> None:
    """Something was heard only while others were asked: a program that no reset reaches, which will talk again."""
    _listen_at_the_console(session)
    session.link.read(_ENOUGH, _TALKS_AGAIN_S)
    session.link.read(_ENOUGH, _NEXT_WORDS_S)
    session.notes.end_listening()
    for rate in likelier_rates(observe(session, "sync"))[:RATES_TRIED]:
        settings = LineSettings(rate, session.job.console.frame)
        if is_text(_heard_at(session, settings, _TALKS_AGAIN_S), settings.frame):
            return


def _heard_at(session: Session, settings: LineSettings, wait_s: float = 0.0) -> bytes:
    """What is heard at another rate, after a reset or until somebody talks; it is in `reheard` too."""
    try:
        session.link.configure(settings)
    except RateRefused:  # an adapter that cannot make it
        return b""
    heard = session.link.read(1, wait_s) + session.link.read(400, 0.4) if wait_s else _hear_after_reset(session)
    session.notes.reheard = settings, heard
    return heard


RATES_TRIED = 3


def _try_rates(session: Session, rates: list[int]) -> None:
    """Is it understood at one of these? A loader that does not measure the rate is asked, then the program heard."""
    for rate in rates:
        if _answers_at(session, (rate,)):
            return
        settings = LineSettings(rate, session.job.console.frame)
        try:
            session.link.configure(settings)
        except RateRefused:  # an adapter that cannot make it
            continue
        session.notes.reheard = settings, _hear_after_reset(session)
        if is_text(session.notes.reheard[1], settings.frame):
            return


def _answers_at(session: Session, bauds: tuple[int, ...]) -> bool:
    """Whether the bootloader answers when it is asked at another rate, after a reset by the lines. One that measures
    the rate does not need that."""
    dialect = session.job.dialect
    if session.reset_by is not ResetBy.LINES or dialect.spec.asking.measures_rate:
        return False
    for baud in bauds:
        settings = LineSettings(baud, dialect.frame)
        if baud == session.job.first_settings.baud:
            continue
        try:
            answer = _asked_anew(session, dialect, settings, 2)
        except RateRefused:  # an adapter that cannot make it
            continue
        if answer is not None:
            session.notes.answered_at = settings, answer
            return True
    return False


def _hear_after_reset(session: Session) -> bytes:
    if session.reset_by is not ResetBy.LINES:
        spoke = session.notes.spoke
        first = session.link.read(1, _NEXT_WORDS_S) if spoke else b""  # who talks now and then will do so again
        return first + session.link.read(400, 0.4)
    enter(session)
    return session.link.read(400, 1.5)


def _ask_in_other_dialects(session: Session, only_hasty: bool) -> None:
    """Is it another bootloader than the declared one? Asking changes nothing on any chip. `only_hasty`: a program
    runs, so only those are asked whose loaders give up, or are entered through a break."""
    longest_s = _LONGEST_FOREIGN_S if session.reset_by is ResetBy.LINES else _LONGEST_FOREIGN_S / 3
    deadline = Deadline.after(session.link, longest_s)
    for other in all_dialects():
        spec = other.spec
        reached = not only_hasty or spec.gives_up or spec.asking.breaks_in
        if other is session.job.dialect or not spec.asking.sent or not reached or deadline.over:
            continue
        answer = _asked_anew(session, other, LineSettings(session.job.first_settings.baud, other.frame), 3)
        if answer is not None:
            session.notes.answered_other = other.title, answer
            return


def _asked_anew(session: Session, dialect: type[Dialect], settings: LineSettings, times: int) -> str | None:
    """The answer to one of so many askings, after a reset where lines can. Raises RateRefused."""
    link = session.link
    link.configure(settings)
    link.discard()
    if session.reset_by is ResetBy.LINES:
        enter(session, dialect)
        link.sleep(dialect.spec.asking.attempts[0].settle_s)
    asked = dialect(link)
    return next((answer for _ in range(times) if (answer := asked.ask(dialect.spec.asking.wait_s))), None)


def listen_for_application(session: Session) -> None:
    """After a conversation broke off: is it because the application runs?"""
    _listen_at_the_console(session)
    session.link.read(200, 0.8)


def _listen_at_the_console(session: Session) -> None:
    """At the program's rate; where the adapter cannot make it, at the one that it has."""
    with suppress(RateRefused):
        session.link.configure(session.job.console)
    session.notes.begin_listening()
