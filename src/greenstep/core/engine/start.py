"""The end of a run: start the application and hear it, or have a person set the boot pin back and reset the board;
then send the settings that a new board gets over the same wire.

Why a person at the end: a bootloader's own command would run the program at once, and prove nothing about the next
power-up. So the chip is left in its bootloader, where all that can make it talk is a reset with the boot pin back.
"""

from __future__ import annotations

from collections.abc import Generator, Iterator
from dataclasses import replace

from ..dialects.errors import DialectError, Silence, Unexpected
from ..dialects.spec import Starting
from ..errors import Finding, StartFault
from ..events import Event, HandsWanted, HeardMeanwhile, Noted, StepAdvanced, StepEnded
from ..findings.text_detection import BootText, read_boot_text, text_in
from ..frozen import frozen
from ..hookup.sequence import Sequence
from ..link import Deadline, LineSettings, LinesMissing, ResetBy
from ..plan.write_options import TalkLine
from ..quantities import count, readable_share, show_bytes, show_heard, show_seconds
from .explain import explain, look_into, rom_rate
from .poll import ask_as_known
from .session import Session

_SHORT_LISTEN_S, _AFTER_ROM_S, _PAUSE_S, _ROM_TEXT_S = 0.5, 1.0, 0.06, 0.4
_MOST_HEARD = 4096
_GIVES_UP_S = 4.0  # loaders wait a second or a few before they start the program


def start_step(session: Session) -> Iterator[Event]:
    """Start by lines or by command, whichever the dialect prefers and the hookup can do; after the boot pin was put
    back, the program runs already.

    Without an expected text, the answer of a bootloader that starts it by a jump is the evidence. A reset gives none
    except what is heard, whether lines make it or a loader acknowledges it: the boot pin may still be set, or there
    is nothing that runs. While it is still set, a program that was started by command has not been started for good.
    """
    job, link = session.job, session.link
    began, start_mark = link.now(), link.mark
    said, by_hand = "", False
    waits_s = job.end_patience_s
    if session.back_mark is not None and not session.hands_left:
        how, start_mark = "reset by hand", session.back_mark
    else:
        link.collect()
        leave = None if session.hands_left else session.leave
        if leave is not None and job.starts_by_lines:
            link.configure(first_heard_at(session))
            link.discard()
            link.collect()
            session.notes.begin_listening()
            began, start_mark = link.now(), link.mark
            try:
                how = _reset(session, leave)
            except LinesMissing:
                how = "this port has no DTR and RTS: reset the board by hand"
                yield Noted("start", how)
        else:
            how, said = yield from _by_command(session)
            if session.dialect.start_proves_image:
                session.unproven = [step for step in session.unproven if step != "verify"]
                session.partly = ""
            if job.hookup.enter is not None and job.hookup.enter.hangs_up:
                link.reopen(None)  # the bootloader's port disappears, the application's appears
            session.notes.begin_listening()
            began = link.now()
            link.configure(first_heard_at(session))
        by_hand = not said and leave is None
    if by_hand and session.hands_left:
        session.unproven.append("start")
        yield StepEnded("start", "unproven", f"not started; {how or 'it needs that reset'}")
        return
    if by_hand and not waits_s:
        session.hands_left = moves_back(session)
    elif by_hand:
        session.hands_asked = True
        yield HandsWanted("start", moves_back(session), waits_s)
    waits_s = waits_s if by_hand else 0.0
    if job.expect:
        yield _for_now(session, _expected(session, how, began, start_mark, waits_s))
        return
    if said and session.dialect.proves_start:
        yield _for_now(session, StepEnded("start", "green", said))
        return
    if by_hand:
        link.read(1, waits_s)
    if link.settings != job.console:
        _hear_rom(session, start_mark)
        link.configure(job.console)
    _listen_briefly(session)
    heard = link.between(start_mark, None, "heard")
    boot_text = read_boot_text(heard)
    if boot_text is not None and not boot_text.runs and session.back_mark is None:
        raise StartFault(*explain(session, "start"))
    how = how or ("told to run" if job.dialect.spec.into_ram else "; ".join(moves_back(session)))
    if text := text_in(heard, job.console.frame):
        yield _for_now(session, StepEnded("start", "green", f"{how}; heard {show_heard(text)}"))
        return
    session.unproven.append("start")
    yield StepEnded("start", "unproven", f"{how}; nothing heard (expect = a text it prints would prove it)")


def _for_now(session: Session, ended: StepEnded) -> StepEnded:
    """How the start ended, if the boot pin is still set: it runs until the next power-up."""
    if not session.hands_left:
        return ended
    session.unproven.append("start")
    return replace(ended, outcome="unproven", evidence=f"{ended.evidence}; it runs until the next reset")


def _hear_rom(session: Session, mark: int) -> None:
    """Listen until the ROM has told how it was booted, and then until it pauses."""
    link, deadline = session.link, Deadline.after(session.link, _ROM_TEXT_S)
    while not deadline.over:
        told = read_boot_text(link.between(mark, None, "heard")) is not None
        if not link.read(1, min(deadline.left_s, _PAUSE_S) if told else deadline.left_s) and told:
            return


def _listen_briefly(session: Session) -> None:
    """Listen for what proves that the program runs: a whole line of text, after which nothing follows at once. Where
    the chip's ROM speaks first, its text is no such line."""
    link, spec = session.link, session.job.dialect.spec
    deadline = Deadline.after(link, _AFTER_ROM_S if spec.rom_speaks else _SHORT_LISTEN_S)
    heard = b""
    while not deadline.over and len(heard) < _MOST_HEARD:
        line_ended = heard.endswith(b"\n") and len(heard) >= 8 and readable_share(heard) > 0.85
        ends = line_ended and not spec.rom_speaks
        more = link.read(1, min(deadline.left_s, _PAUSE_S) if ends else deadline.left_s)
        if ends and not more:
            return
        heard += more


def _by_command(session: Session) -> Generator[Event, None, tuple[str, str]]:
    """Start by the bootloader's command. Returns (how, what it said). If it does not answer, reset by lines where
    possible: that starts the program too."""
    try:
        said = session.dialect.start(_entry(session))
        return said, said
    except (Silence, Unexpected) as error:
        enter, leave = session.job.hookup.enter, session.leave
        if leave is None or session.reset_by is not ResetBy.LINES or enter is None or enter.hangs_up:
            raise
        if session.job.dialect.spec.into_ram:  # a reset would start another program
            raise
        yield Noted("start", f"{error}: started by a reset")
        how = _reset(session, leave)
        session.link.read(1, _GIVES_UP_S if not session.job.expect else 0.0)
        return how, ""


def _reset(session: Session, leave: Sequence) -> str:
    """Reset, and say how. Raises LinesMissing."""
    session.driver.run(leave)
    hookup = session.job.hookup
    return f"reset by {hookup.resets}" if hookup.resets else "left by its own sequence"


def _entry(session: Session) -> int:
    """The address of the application's vectors: the bottom of the flash if the image covers it, else of the image."""
    flash = session.part.flash
    image = session.job.images.get("flash")
    if image is None or image.covers(flash.start, 1):
        return flash.start
    return image.lowest


def _expected(session: Session, how: str, began: float, mark: int, patience_s: float) -> StepEnded:
    """Look for the expected text in everything received since the recording's event `mark`: a program may talk before
    the command's answer is complete."""
    job, link = session.job, session.link
    wanted = job.expect.encode()
    deadline = Deadline.after(link, max(job.expect_within_s, patience_s))
    heard = link.between(mark, None, "heard")
    while wanted not in heard:
        if deadline.over:
            look_into(session, "start")
            raise StartFault(*explain(session, "start"))
        heard = heard[-len(wanted) - 4096 :] + (link.read(1, deadline.left_s) or b"")
    took = link.now() - began
    session.text_heard = job.expect
    after = f" after {show_seconds(took)}" if took else ""  # after a reset by hand it was heard before
    return StepEnded("start", "green", f'heard "{job.expect}"{after}', took)


def goodbye(session: Session) -> Iterator[Event]:
    """After a run that only looked: let the application run again, if that needs no person."""
    if is_left_to_hands(session):
        session.hands_left = moves_back(session)
    try:
        if session.leave is not None and session.reset_by is ResetBy.LINES:
            _reset(session, session.leave)
        else:
            session.dialect.finish()
    except LinesMissing:
        yield Noted("chip", "this port has no DTR and RTS: reset the board by hand")


_POLL_S, _POLL_PAUSE_S, _AGAIN_S, _AT_ONCE_S = 0.1, 0.15, 3.0, 1.5
_OWN_START_S, _OWN_TALK_S, _FIRST_WORDS = 1.5, 2.0, 16
_ENOUGH = 256
STILL_SET = "boot-pin-still-set"


@frozen
class TextHeard:
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
    rate = None if job.expect else rom_rate(session)
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
    heard = TextHeard()
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
        if ask_as_known(dialect, wait_s) is not None:
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
) -> Generator[Event, None, TextHeard]:
    """Listen until a program or a ROM that starts one is heard. Anything else is told once, and waited on."""
    link = session.link
    deadline, began_s = Deadline.after(link, patience_s), link.now()
    mark, told, told_at, reset_s, last = link.mark, set[str](), -1, -_AGAIN_S, TextHeard()
    while not deadline.over:
        if by_lines and link.now() - reset_s >= _AGAIN_S:
            reset_s = link.now()
            _reset_by_hand(session)
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


def _reset_by_hand(session: Session) -> None:
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
        if not link.read(_ENOUGH, _POLL_PAUSE_S):
            return


def _judged(session: Session, heard: bytes) -> TextHeard:
    boot = read_boot_text(heard)
    if boot is not None:
        return TextHeard(f'"{boot.quoted}"') if boot.runs else TextHeard(finding=_not_running(boot))
    if text := text_in(heard, session.link.settings.frame):
        return TextHeard(show_heard(text))
    if len(heard) < 3:  # a switch that bounces
        return TextHeard()
    evidence = (f"heard {show_bytes(heard)} at {session.link.settings}",)
    tries = ("does the program print at another rate? --console-baud",)
    return TextHeard(
        finding=Finding("garbage", "something runs, and what it sends is no text", evidence, tries, "possible")
    )


def _not_running(boot: BootText) -> Finding:
    cause = f"the board was reset, and its ROM says: {boot.meaning}"
    if boot.loader:
        cause = "the board was reset with the boot pin still set: it waits for an upload again"
    return Finding(STILL_SET, cause, (f'heard "{boot.quoted}"',), ("set it back, then reset",))


_LAST_WORDS_S = 0.3


def talk_step(session: Session) -> Iterator[Event]:
    """Wait for each text, send each line. What the application said since its start counts once."""
    job, link = session.job, session.link
    heard = b""
    if session.notes.listen_mark is not None:
        heard = _after_text(link.between(session.notes.listen_mark, None, "heard"), session.text_heard)
    sent = answers = 0
    for turn in job.talk:
        if turn.expect:
            heard = _wait_for(session, turn, heard)
            answers += 1
        if turn.send is not None:
            link.write(turn.send.encode() + job.line_end)
            sent += 1
            yield Noted("talk", f"sent {turn.secret}, a secret" if turn.secret else f'sent "{turn.send}"')
    if job.talk[-1].send is not None:  # let it leave the adapter before the port is closed
        link.read(200, _LAST_WORDS_S)
    if not answers:
        session.unproven.append("talk")
        yield StepEnded("talk", "unproven", f"{count(sent, 'line')} sent; nothing was expected in answer")
        return
    session.text_heard = session.text_heard or job.talk[0].expect
    if "start" in session.unproven:  # whatever answers is running
        session.unproven.remove("start")
    evidence = f"{count(answers, 'expected text')} heard, {count(sent, 'line')} sent"
    yield StepEnded("talk", "green", evidence, figures={"heard": answers, "sent": sent})


def _after_text(heard: bytes, text: str) -> bytes:
    """What came after the text that proved the start."""
    place = heard.find(text.encode()) if text else -1
    return heard[place + len(text.encode()) :] if place >= 0 else heard


def _wait_for(session: Session, turn: TalkLine, heard: bytes) -> bytes:
    """What came after the expected text. Raises StartFault."""
    wanted = turn.expect.encode()
    deadline = Deadline.after(session.link, turn.within_s)
    while wanted not in heard:
        if deadline.over:
            session.notes.missing_text = turn.expect
            raise StartFault(*explain(session, "start"))
        heard += session.link.read(1, deadline.left_s) or b""
    return heard[heard.find(wanted) + len(wanted) :]
