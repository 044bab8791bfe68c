"""The end by hand: the boot pin is set back, the board is reset, and what is heard after that is the evidence.

A bootloader's own command would run the program at once, and prove nothing about the next power-up. So the chip is
left in its bootloader, where all that can make it talk is a reset with the boot pin back.
"""

from __future__ import annotations

from collections.abc import Generator, Iterator
from dataclasses import replace

from ..dialects.errors import DialectError
from ..dialects.spec import Starting
from ..errors import Finding, StartFault
from ..events import Event, HandsWanted, HeardMeanwhile, StepAdvanced, StepEnded
from ..findings.boot_text import BootText, read_boot_text
from ..findings.hearing import text_in
from ..frozen import frozen
from ..link import Deadline, LineSettings, LinesMissing, ResetBy
from ..quantities import show_bytes, show_heard, show_seconds
from .session import Session

_POLL_S, _PAUSE_S, _AGAIN_S, _AT_ONCE_S = 0.1, 0.15, 3.0, 1.5
_OWN_START_S, _OWN_TALK_S, _FIRST_WORDS = 1.5, 2.0, 16
_ENOUGH = 256
STILL_SET = "boot-pin-still-set"


@frozen
class Heard:
    """What came after the reset. `quoted` proves that a program runs, or that a ROM starts one; if it is empty,
    `finding` says what else it was."""

    quoted: str = ""
    finding: Finding | None = None


@frozen
class _OwnStart:
    """What a program said that its loader started by itself after the upload, before anybody reset it: only the same
    words again show a reset. `talks`: they came again by themselves, and show nothing."""

    quoted: str
    talks: bool


NO_OWN_START = _OwnStart("", False)


def _listen_for_own_start(session: Session) -> _OwnStart:
    link, mark = session.link, session.link.mark
    link.read(1, _OWN_START_S)
    _hear_out(session)
    found = _judged(session, link.between(mark, None, "heard"))
    words = found.quoted.strip('"').rstrip("…")[:_FIRST_WORDS]
    if not words:
        return NO_OWN_START
    mark = link.mark
    link.read(_ENOUGH, _OWN_TALK_S)
    again = _judged(session, link.between(mark, None, "heard"))
    return _OwnStart(words, words in again.quoted)


def moves_back(session: Session) -> tuple[str, ...]:
    """What a person has to do so that the next power-up starts the program. Where lines reset, only the boot pin."""
    job, part = session.job, session.part
    own = job.own_hands is not None and bool(job.own_hands.leave)
    if session.reset_by is not ResetBy.LINES or own:
        return job.hands_of(part).leave
    level = {"high": "low", "low": "high"}.get(part.boot_level, "as it runs")
    return (f"set {part.wires.boot or 'the boot pin'} {level} again",)


def is_left_to_hands(session: Session) -> bool:
    """Whether a person led the chip into its bootloader, and has not been asked to set that right."""
    job = session.job
    if not (session.synced and (job.boot_by_hand or session.reset_by is ResetBy.HAND_WITHOUT_LINES)):
        return False
    if job.dialect.spec.into_ram or not job.hands_of(session.part).leave:
        return False
    own = job.own_hands is not None and bool(job.own_hands.leave)
    if not (session.part.boot_level or own):
        return False
    return session.hands_asked or job.dialect.spec.starting is Starting.RESET


def first_heard_at(session: Session) -> LineSettings:
    """The console's settings; those at which the chip's ROM tells how it was booted, if it does and no text of the
    program is awaited."""
    job = session.job
    rate = None if job.expect else job.dialect.rom_rate(session.part)
    return job.console if rate is None else replace(job.console, baud=rate)


def put_back_step(session: Session) -> Iterator[Event]:
    """Ask for the boot pin to be set back and for a reset; wait, and listen. Lines that reach reset do that part."""
    job, link = session.job, session.link
    moves = moves_back(session)
    by_lines = session.leave is not None and session.reset_by is ResetBy.LINES
    if not by_lines and not job.end_patience_s:
        yield _not_back(session, moves, f"not waited for: {'; '.join(moves)}")
        return
    link.configure(first_heard_at(session))
    link.discard()
    link.collect()
    session.notes.begin_listening()
    session.back_mark = link.mark
    began_s = link.now()
    heard = Heard()
    own = NO_OWN_START if job.dialect.spec.starting is Starting.RESET else _listen_for_own_start(session)
    if by_lines:
        heard = yield from _listen(session, moves, _AT_ONCE_S, by_lines)
    if not heard.quoted and job.end_patience_s:
        yield HandsWanted("put back", moves, job.end_patience_s)
        heard = yield from _listen(session, moves, job.end_patience_s, by_lines, own)
    if heard.quoted:
        how = "reset by lines" if by_lines else "reset by hand"
        took_s = link.now() - began_s
        yield StepEnded("put back", "green", f"{how} after {show_seconds(took_s)}; heard {heard.quoted}", took_s)
        return
    if heard.finding is not None and heard.finding.key == STILL_SET:
        raise StartFault(heard.finding)
    if _still_there(session):
        yield _not_back(session, moves, f"its bootloader still answers: {'; '.join(moves)}")
        return
    link.configure(job.console)
    why = "a reset cannot be told from its talk" if own.talks else "nothing was heard since the reset"
    yield _not_back(session, moves if own.quoted else (), f"the bootloader no longer answers, and {why}")


def _not_back(session: Session, moves: tuple[str, ...], why: str) -> StepEnded:
    session.unproven.append("put back")
    session.hands_left = moves
    return StepEnded("put back", "unproven", why)


def _still_there(session: Session) -> bool:
    """Whether the bootloader answers: as in the conversation so far, or as after a reset."""
    link, dialect, wait_s = session.link, session.dialect, session.job.dialect.spec.asking.wait_s
    link.configure(session.line)
    try:
        if dialect.ask_as_known(wait_s) is not None:
            return True
        link.configure(session.first_settings)
        if not any(session.job.dialect(link).ask(wait_s) is not None for _ in range(2)):
            return False
        link.configure(session.line)
        return True
    except DialectError:
        return False


def _listen(
    session: Session,
    moves: tuple[str, ...],
    patience_s: float,
    by_lines: bool,
    own: _OwnStart = NO_OWN_START,
) -> Generator[Event, None, Heard]:
    """Listen until a program or a ROM that starts one is heard. Anything else is told once, and waited on."""
    link = session.link
    deadline, began_s = Deadline.after(link, patience_s), link.now()
    mark, told, told_at, reset_s, last = link.mark, set[str](), -1, -_AGAIN_S, Heard()
    while not deadline.over:
        if by_lines and link.now() - reset_s >= _AGAIN_S:
            reset_s = link.now()
            _reset(session)
        if link.read(_ENOUGH, _POLL_S):
            _hear_out(session)
            found = _judged(session, link.between(mark, None, "heard"))
            if found.quoted and own.quoted in found.quoted and not own.talks:
                return found
            if found.finding is not None and found.finding.key not in told:
                told.add(found.finding.key)
                yield HeardMeanwhile("put back", found.finding, moves)
            last = found
            if found.finding is not None and found.finding.key == STILL_SET:
                mark = link.mark
        waited = int(link.now() - began_s)
        if waited > told_at:
            told_at = waited
            yield StepAdvanced("put back", min(waited, int(patience_s)), int(patience_s), "seconds", float(waited))
    return last


def _reset(session: Session) -> None:
    leave = session.leave
    if leave is not None:
        try:
            session.driver.run(leave)
        except LinesMissing:
            session.reset_by = ResetBy.HAND_WITHOUT_LINES


def _hear_out(session: Session) -> None:
    """Until it pauses, or is more than enough."""
    link = session.link
    for _ in range(8):
        if not link.read(_ENOUGH, _PAUSE_S):
            return


def _judged(session: Session, heard: bytes) -> Heard:
    boot = read_boot_text(heard)
    if boot is not None:
        return Heard(f'"{boot.quoted}"') if boot.runs else Heard(finding=_not_running(boot))
    if text := text_in(heard, session.link.settings.frame):
        return Heard(show_heard(text))
    if len(heard) < 3:  # a switch that bounces
        return Heard()
    evidence = (f"heard {show_bytes(heard)} at {session.link.settings}",)
    tries = ("does the program print at another rate? --console-baud",)
    return Heard(
        finding=Finding("garbage", "something runs, and what it sends is no text", evidence, tries, "possible")
    )


def _not_running(boot: BootText) -> Finding:
    cause = f"the board was reset, and its ROM says: {boot.meaning}"
    if boot.loader:
        cause = "the board was reset with the boot pin still set: it waits for an upload again"
    return Finding(STILL_SET, cause, (f'heard "{boot.quoted}"',), ("set it back, then reset",))
