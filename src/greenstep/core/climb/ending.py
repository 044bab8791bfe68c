"""How a run that reached its end is put in words."""

from __future__ import annotations

from ..events import RunEnded
from ..versions import Version, change, version_of
from .session import Session

_DONE = {"backup": "is read", "erase": "is blank there", "lock": "is locked", "unlock": "is unlocked"}


def success(session: Session) -> RunEnded:
    """Every step was done; green if all of them are."""
    green, summary = _summary(session)
    before, after = versions_of(session)
    return RunEnded(
        green, 0, session.elapsed_s, summary, hands=session.hands_left,
        version_before=before.name if before else "", version_after=after.number,
    )  # fmt: skip


def versions_of(session: Session) -> tuple[Version | None, Version]:
    """What the chip held before and what it holds now, as far as either is known."""
    image = session.job.images.get("flash")
    if session.job.purpose != "upload" or image is None or session.job.empties:
        return session.held, Version()
    return session.held, version_of(image)


def _summary(session: Session) -> tuple[bool, str]:
    job, proven = session.job, not session.unproven
    who = job.board or (session.part.title if session.known else job.choice.name)
    if job.purpose == "greet":
        return True, f"{who} answers"
    if job.wishes.blank and job.purpose == "verify":
        return proven, f"{who} is blank {'there' if proven else 'as far as it shows'}"
    if job.purpose in _DONE:
        return proven, f"{who} {_done(session)}"
    if job.purpose == "start":
        return proven, f"{who} runs" if session.text_heard else f"{who} was started"
    image = job.images.get("flash") or next(iter(job.images.values()))
    changed = change(*versions_of(session))
    what = f"{image.name} ({image.crc32(session.part.flash.erased):08X})" + (f", {changed}" if changed else "")
    if session.partly and job.purpose == "verify":
        return False, f"{who}: {session.partly.removesuffix(' it')} {what} is there"
    if session.partly:
        return False, f"{who} {'runs' if session.text_heard else 'was given'} {what}; {session.partly} is there"
    if "verify" in session.unproven and job.purpose == "verify":
        return False, f"not verified: {who} shows nothing of {what}"
    if "verify" in session.unproven:
        return False, f"written, not verified: {who} was given {what}"
    at = f", at {session.line.baud} baud" if session.line.baud != job.settings.baud else ""
    holds = "has in its RAM" if session.part.holds == "RAM" else "holds"
    return proven, f"{who} {'runs' if session.text_heard else holds} {what}{at}"


def _done(session: Session) -> str:
    """What was done to a chip without an image."""
    if session.unproven == ["read"]:
        return "is read, except for what it cannot show"
    if session.job.wishes.writes_only:
        return "had its write protection lifted"
    if session.partly:
        return "is blank as far as it shows"
    return "acknowledged, and did not show it" if session.unproven else _DONE[session.job.purpose]
