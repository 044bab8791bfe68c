"""The last step: start the application, and hear it."""

from __future__ import annotations

from collections.abc import Generator, Iterator
from dataclasses import replace

from ..dialects.errors import Silence, Unexpected
from ..errors import StartFault
from ..events import Event, HandsWanted, Noted, StepEnded
from ..findings.boot_text import read_boot_text
from ..findings.hearing import text_in
from ..hookup import Sequence
from ..link import Deadline, LinesMissing, ResetBy
from ..quantities import readable_share, show_heard, show_seconds
from .causes import look_into
from .evidence import explain
from .putting_back import first_heard_at, is_left_to_hands, moves_back
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
