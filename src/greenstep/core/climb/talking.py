"""After the start: send the settings that a new board gets over the same wire."""

from __future__ import annotations

from collections.abc import Iterator

from ..errors import StartFault
from ..events import Event, Noted, StepEnded
from ..link import Deadline
from ..quantities import count
from ..talk import TalkLine
from .evidence import explain
from .session import Session

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
