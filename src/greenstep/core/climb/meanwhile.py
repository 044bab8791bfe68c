"""What the board sends while a person is waited for, judged as it comes."""

from __future__ import annotations

from dataclasses import replace

from ..errors import Finding
from ..findings.diagnosis import diagnose
from ..findings.observations import Observations
from ..quantities import show_heard
from .evidence import observe
from .session import Session

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
