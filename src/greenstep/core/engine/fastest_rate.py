"""Rates other than the board's own. The highest that both ends really carry: found from the top, proven, and left
when the line no longer bears it. And a lower one, for loaders that measure the rate, where the board's own damages
characters."""

from __future__ import annotations

from collections import deque
from collections.abc import Generator, Iterator
from dataclasses import replace
from enum import Enum
from itertools import groupby

from ..chips.part import Part
from ..dialects.abilities import ChangesRate, ProvesRate
from ..dialects.errors import ChipRefusal, DialectError, RateTooHigh, RefusalKind, Silence, UnexpectedErase
from ..dialects.results import Examination, Identity
from ..errors import Fault
from ..events import Event, Noted, Step
from ..frozen import frozen
from ..link import LineSettings, RateRefused, ResetBy
from .chip_state import ChipState
from .explain import enter
from .resume import RESUMABLE, begin_again, take_over
from .session import Session, dialect_for

# Why the highest rate is searched from the top, and proven each way
# ------------------------------------------------------------------
# Which rate a line carries depends on four things that nothing tells: what the adapter's divider makes of the
# number, what the chip's clock makes of it, how long and how well grounded the wires are, and whether the
# loader keeps up. Data sheets give upper limits for two of them. So it is tried: from the highest rate down,
# since the first that works is the answer, and a rate that fails does so within one exchange.
#
# That a rate answers is no proof: one question and one answer are few characters, and a rate that is slightly off
# damages one only now and then. At least 4 KiB go each way (`ProvesRate.prove_rate`), by commands that change
# nothing, and without repeating anything: a repetition would hide what is looked for. Only then is the rate used
# and remembered, for this line, chip and port.
#
# A line may become worse later, when a motor starts. `Watch` counts the exchanges that had to be repeated,
# and leaves the rate before repetitions cost more than the rate gains; commands that nothing guards against
# damage are not sent at a rate that has damaged anything (`fail_fast`).
BAUDS = (2_000_000, 1_500_000, 1_000_000, 921_600, 460_800, 230_400, 115_200, 57_600)
"""From the top."""
_SHORTEST_WAIT_S, _LONGER_WAIT_S, _SLOWER = 0.05, 0.2, 3.0
"""How long an answer at a rate on trial is waited for: three times as long as one took at the safe rate, and longer
once it has answered."""
_MOVES_DATA = ("greet", "upload", "verify", "backup", "erase")
_AGAIN_BYTES = 1024
"""What a rate that was found some other day carries before anything is erased by a command that nothing guards."""
_HURTS, _BLOCKS = 3, 64
"""A rate is left when so many exchanges of so many had to be repeated."""


class RateTrouble(Enum):
    """Why a rate is not used, as far as the evidence tells adapter, chip and wires apart."""

    ADAPTER = "refused by the adapter"
    CHIP = "refused by the chip"
    LOADER = "not among the rates of its loader"
    NO_ANSWER = "no answer (chip or adapter makes no such rate)"
    DAMAGED = "characters damaged (wires, ground, or clocks too far apart)"


class _NotCarried(Exception):
    def __init__(self, trouble: RateTrouble) -> None:
        super().__init__(trouble.value)
        self.trouble = trouble


@frozen
class FailedRate:
    """A rate that was tried in vain."""

    baud: int
    trouble: RateTrouble


def looks_for_rate(session: Session) -> bool:
    """Whether a rate is to be found, and can be."""
    job = session.job
    wanted = job.rates is not None and job.purpose in _MOVES_DATA
    return wanted and issubclass(job.dialect, ProvesRate) and session.reset_by is ResetBy.LINES


def ask_at_known_rate(session: Session) -> str | None:
    """The loader's answer at the rate that this line is known to carry, if the loader measures it from the first
    question; None if it does not answer, or no rate is known. Then it has been reset again."""
    baud = _known(session) if looks_for_rate(session) else None
    if baud is None or baud == session.line.baud or not _measured(session, baud):
        return None
    try:
        session.link.configure(_at(session, baud))
    except RateRefused:
        return None
    attempt = session.job.dialect.spec.asking.attempts[0]
    session.link.sleep(attempt.settle_s)
    session.link.discard()
    for _ in range(attempt.asks):
        answer = session.dialect.ask(session.job.dialect.spec.asking.wait_s)
        if answer is not None:
            session.line = _at(session, baud)
            return answer
    session.link.configure(session.first_settings)
    enter(session)
    return None


def settle_rate(session: Session) -> Iterator[Event]:
    """At the end of the chip step: continue at the rate that was asked for, or at the highest there is. Raises
    DialectError."""
    yield from _settled(session)
    session.dialect.fail_fast = can_slow_down(session, "write")


def _settled(session: Session) -> Iterator[Event]:
    job = session.job
    if job.rates is None or job.purpose not in _MOVES_DATA:
        yield from _move_as_told(session)
    elif not issubclass(job.dialect, ProvesRate):
        measures = job.dialect.spec.asking.measures_rate
        why = "no faster rate can be proven with this loader" if measures else "its loader answers at one rate"
        yield Noted("chip", f"{why}: {session.line.baud} baud")
        yield from _move_as_told(session)
    elif session.reset_by is not ResetBy.LINES:
        why = "a faster rate is only looked for where lines reset the chip"
        yield Noted("chip", f"{why}: {session.line.baud} baud")
        yield from _move_as_told(session)
    else:
        known = _known(session)
        if known is None or not (session.link.settings.baud == known or _moves_to(session, known)):
            yield from find_rate(session, "chip")
        elif job.dialect.spec.erases_unguarded and not _still_carries(session):
            yield Noted("chip", f"{known} baud was found before, and damages characters now")
            yield from find_rate(session, "chip", below=known)
        else:
            yield Noted("chip", f"at {known} baud, found before")


def identified(session: Session) -> Identity:
    """Who the chip is. At a rate that was proven some other day it is asked twice. Raises LineHurts if the answers
    differ."""
    identity = session.dialect.identify()
    if _is_doubtful(session) and (identity != session.dialect.identify() or session.dialect.disturbed):
        raise _hurts(session)
    return identity


def examined(session: Session, part: Part) -> Examination:
    """What the chip says of itself; likewise, and a refusal is not believed there."""
    examination = session.dialect.examine(part)
    if _is_doubtful(session) and (
        examination.locked or examination != session.dialect.examine(part) or session.dialect.disturbed
    ):
        raise _hurts(session)
    return examination


def refuse_doubtful(session: Session) -> None:
    """What the chip said cannot be: raises LineHurts if the rate may be the reason."""
    if _is_doubtful(session):
        raise _hurts(session)


def _is_doubtful(session: Session) -> bool:
    """Whether the conversation is held at a rate that was proven some other day."""
    fast = session.line.baud > session.job.settings.baud
    return fast and looks_for_rate(session) and _measured(session, session.line.baud)


def _hurts(session: Session) -> RateTooHigh:
    return RateTooHigh(session.line.baud)


def _known(session: Session) -> int | None:
    """The rate that was found before; greeting looks again, as after other wires."""
    rates = session.job.rates
    return None if rates is None or session.job.purpose == "greet" else rates.known()


def _move_as_told(session: Session) -> Iterator[Event]:
    wanted = session.line.baud
    if session.link.settings.baud == wanted:
        return
    if not isinstance(session.dialect, ChangesRate):
        session.line = session.link.settings
        yield Noted("chip", f"its loader answers at one rate: {session.line.baud} baud")
        return
    session.dialect.move_to_rate(session.part, wanted)
    now = session.link.settings.baud
    refused = "" if now == wanted else f"{wanted} baud is refused: "
    yield Noted("chip", f"{refused}{'still' if refused else 'now'} at {now} baud")


def _moves_to(session: Session, baud: int) -> bool:
    """Whether the loader goes there by its command."""
    if _measured(session, baud):
        return False
    session.line = _at(session, baud)
    try:
        _move_by_command(session, baud, _LONGER_WAIT_S)
    except (RateRefused, _NotCarried):
        session.line = session.job.settings
        _back_to_safe(session)
        return False
    session.dialect.trial_s = None
    return True


def _prover(session: Session) -> ProvesRate:
    assert isinstance(session.dialect, ProvesRate), "else no rate is looked for"
    return session.dialect


def _mover(session: Session) -> ChangesRate:
    assert isinstance(session.dialect, ChangesRate), "else the loader measures the rate, or has one only"
    return session.dialect


def _still_carries(session: Session) -> bool:
    """Whether the rate that was moved to carries a shorter proof."""
    session.dialect.trial_s = _LONGER_WAIT_S
    try:
        _prover(session).prove_rate(session.part, _AGAIN_BYTES)
    except UnexpectedErase:
        raise
    except DialectError:
        return False
    session.dialect.trial_s = None
    return not session.dialect.disturbed


def find_rate(session: Session, step: Step, below: int | None = None, remembers: bool = True) -> Iterator[Event]:
    """Move to the highest rate that is proven, lower than `below` if that is given; back to the safe one if there is
    none. Raises Silence if the chip does not answer at that again."""
    safe, rates = session.job.settings, session.job.rates
    wait_s = max(_SHORTEST_WAIT_S, _SLOWER * _answer_s(session)) if below is None else 0.0
    wait_s = wait_s or session.job.dialect.spec.asking.wait_s
    tried: list[FailedRate] = []
    for baud in BAUDS:
        if baud <= safe.baud or (below is not None and baud >= below):
            continue
        sent, heard = session.link.sent_total, session.link.heard_total
        try:
            _prove(session, baud, wait_s)
        except _NotCarried as no:
            tried.append(FailedRate(baud, no.trouble))
            continue
        sent, heard = session.link.sent_total - sent, session.link.heard_total - heard
        proof = f"{sent:,} characters out and {heard:,} back without a flaw"
        yield Noted(step, "; ".join([f"now at {baud} baud: {proof}", *_in_words(tried)]))
        break
    else:
        session.line = safe
        if session.link.settings.baud != session.first_settings.baud or tried:
            _back_to_safe(session)
        yield Noted(step, "; ".join([f"at {safe.baud} baud", *_in_words(tried)]))
    if rates is not None and remembers:
        rates.keep(session.line.baud)


def _back_to_safe(session: Session) -> None:
    for _ in range(2):
        if begin_again(session):
            return
    raise Silence(f"answer at {session.line.baud} baud", session.dialect.patience_s)


def _in_words(tried: list[FailedRate]) -> list[str]:
    """Rates with the same trouble together."""
    groups = [
        (trouble, [one.baud for one in group]) for trouble, group in groupby(tried, key=lambda one: one.trouble)
    ]
    return [f"{_bauds(bauds)}: {trouble.value}" for trouble, bauds in groups]


def _bauds(bauds: list[int]) -> str:
    return f"{bauds[0]} to {bauds[-1]}" if len(bauds) > 2 else ", ".join(map(str, bauds))


def _prove(session: Session, baud: int, wait_s: float) -> None:
    """Bring the chip to a rate and prove it. Raises _NotCarried."""
    session.line = _at(session, baud)
    try:
        if _measured(session, baud):
            session.link.configure(session.line)
            _ask_briefly(session, wait_s)
        else:
            _move_by_command(session, baud, wait_s)
        _see_that_it_is_clean(session)
        session.dialect.trial_s = max(wait_s, _LONGER_WAIT_S)
        _prover(session).prove_rate(session.part)
        if _measured(session, baud):
            found = session.dialect.examine(session.part).unique_id
            if session.known is not None and found != session.known[1]:
                raise _NotCarried(RateTrouble.DAMAGED)
    except RateRefused:
        raise _NotCarried(RateTrouble.ADAPTER) from None
    except UnexpectedErase:
        raise
    except DialectError:
        raise _NotCarried(RateTrouble.DAMAGED) from None
    _see_that_it_is_clean(session)
    session.dialect.trial_s = None


def _ask_briefly(session: Session, wait_s: float) -> None:
    """Reset, and ask as few times as it took at the safe rate. Raises _NotCarried, DialectError."""
    session.dialect = dialect_for(session.job, session.link)
    session.dialect.trial_s = wait_s
    enter(session)
    session.link.sleep(session.settle_s)
    session.link.discard()
    if not any(session.dialect.ask(wait_s) for _ in range(session.asks)):
        raise _NotCarried(RateTrouble.NO_ANSWER)
    found = session.dialect.identify().ident
    if session.known is not None and found != session.known[0]:
        raise _NotCarried(RateTrouble.DAMAGED)


def _move_by_command(session: Session, baud: int, wait_s: float) -> None:
    """Ask at the safe rate, unless the chip is still there, and send the command. Raises _NotCarried, Silence,
    RateRefused."""
    safe, here = session.job.settings, session.link.settings
    stays = here in (session.first_settings, safe) and session.dialect.trial_s is None
    if not isinstance(session.dialect, ChangesRate) or not session.dialect.offers_rate(baud):
        raise _NotCarried(RateTrouble.LOADER)
    if session.dialect.disturbed or not stays:
        wanted, session.line = session.line, safe
        _back_to_safe(session)
        session.line, here = wanted, session.link.settings
    try:
        session.link.configure(session.line)  # see what the port says of it, before the chip is told
    finally:
        session.link.configure(here)
    session.dialect.trial_s = wait_s
    try:
        _mover(session).move_to_rate(session.part, baud)
    except ChipRefusal:
        session.dialect.trial_s = None
        raise _NotCarried(RateTrouble.CHIP) from None
    except DialectError:
        raise _NotCarried(RateTrouble.NO_ANSWER) from None
    if session.link.settings.baud != baud:
        session.dialect.trial_s = None
        raise _NotCarried(RateTrouble.CHIP)


def _see_that_it_is_clean(session: Session) -> None:
    """Raises _NotCarried if anything had to be repeated since the rate was reached."""
    if session.dialect.disturbed:
        raise _NotCarried(RateTrouble.DAMAGED)


def _measured(session: Session, baud: int) -> bool:
    """Whether the loader measures this rate, rather than being told it."""
    dialect = session.job.dialect
    return dialect.first_baud(session.part, baud) == baud and not dialect.spec.is_told_rate


def _at(session: Session, baud: int) -> LineSettings:
    return replace(session.job.settings, baud=baud)


def _answer_s(session: Session) -> float:
    """How long the chip takes to say who it is. Raises DialectError."""
    began_s = session.link.now()
    session.dialect.identify()
    return session.link.now() - began_s


def can_slow_down(session: Session, step: Step, error: DialectError | None = None) -> bool:
    """Whether a failure may come from a rate that was too high, and a lower one can be taken: damaged bytes are
    refused too."""
    locked = isinstance(error, ChipRefusal) and error.kind is RefusalKind.LOCKED
    if locked and session.state is ChipState.UNTOUCHED:
        return False
    return step in RESUMABLE and looks_for_rate(session) and session.line.baud > session.job.settings.baud


def slow_down(session: Session, step: Step, error: DialectError) -> Iterator[Event]:
    """Continue at a lower rate, with the same chip; at the safe one, if it refused something though nothing had to be
    repeated. Raises Silence if it does not answer again."""
    meant = isinstance(error, ChipRefusal) and not session.dialect.disturbed
    if step == "chip":
        session.known = None  # it is asked again, and what it said may have been damaged
    session.line_hurt = True
    session.notes.forget_listening()
    before = session.dialect
    yield from find_rate(session, step, below=0 if meant else session.line.baud, remembers=not meant)
    take_over(session, before)
    session.dialect.fail_fast = can_slow_down(session, "write")


class Watch:
    """Sees whether a rate above the safe one hurts while data is moved: call `see` after each block."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self._on = can_slow_down(session, "write")
        self._before = session.dialect.disturbed
        self._recent: deque[int] = deque(maxlen=_BLOCKS)

    def see(self) -> None:
        """Raises LineHurts."""
        if not self._on:
            return
        now = self._session.dialect.disturbed
        self._recent.append(now - self._before)
        self._before = now
        if sum(self._recent) >= _HURTS:
            raise RateTooHigh(self._session.line.baud)


_BAUDS = (57_600, 38_400, 19_200, 9_600)
_AT_MOST = 0.5
"""How much of the rate that hurts the next one is: noise grows fast with the rate, and time is dear."""
_RATE_TOO_HIGH, _TIMES = 3, 2
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
        and session.dialect.disturbed >= (1 if refused else _RATE_TOO_HIGH)
        and _next_below(session) is not None
    )


def _next_below(session: Session) -> int | None:
    """The next lower rate that this loader measures, or can be told."""
    asking, told = session.job.dialect.spec.asking, isinstance(session.dialect, ChangesRate)
    if not asking.measures_rate and not (asking.at_baud and told):
        return None
    least = asking.at_baud or 0
    rates = (baud for baud in _BAUDS if least <= baud <= session.line.baud * _AT_MOST)
    return next((baud for baud in rates if not asking.at_baud or _mover(session).offers_rate(baud)), None)


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
        take_over(session, before)
        yield Noted(step, f"{why}: once more, at {baud} baud")
        return True
    session.slowed, session.line = _TIMES, usual
    yield Noted(step, f"{why}; it does not answer at {baud} baud")
    return False
