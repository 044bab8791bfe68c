"""What the scene has seen, as observations for the findings."""

from __future__ import annotations

from ..dialects.base import ChipRefusal, DialectError, Silence, Unexpected
from ..dialects.registry import own_dialects
from ..findings import ChipSeen, Difference, LineHeard, Observations, Refusal
from ..findings.observations import Phase
from ..quantities import readable_share
from .job import Scene


def observe(
    scene: Scene,
    phase: Phase,
    error: DialectError | None = None,
    chip: ChipSeen | None = None,
    locked: str = "",
    difference: Difference | None = None,
) -> Observations:
    """Everything that was seen, for `phase`; `error` is what ended a conversation."""
    job, link = scene.job, scene.link
    part = scene.part or job.choice.first
    refusal = None
    silence = ""
    answers = b""
    sent = after = b""
    if link is not None:
        until_s = scene.listen_since_s or link.now() + 1
        since = [event for event in link.events if event.at_s >= scene.sync_since_s]
        sent = b"".join(e.data for e in since if e.direction == "sent" and e.at_s < until_s)
        if not scene.synced or phase == "start":
            answers = b"".join(e.data for e in since if e.direction == "heard" and e.at_s < until_s)
        after = b"".join(e.data for e in since if e.direction == "heard" and e.at_s >= until_s)
        if phase == "start":
            answers = b""
    if isinstance(error, ChipRefusal):
        refusal = Refusal(error.command, error.stage, error.answer, error.address)
    elif isinstance(error, Silence):
        silence = str(error)
        answers = answers or error.heard
    elif isinstance(error, Unexpected):
        answers = error.heard
    if error is not None and link is not None and scene.synced and not refusal:
        recent = b"".join(event.data for event in link.events if event.direction == "heard")[-80:]
        text = recent.lstrip(bytes(range(9)) + bytes(range(14, 32)) + bytes(range(127, 256)))
        if len(text) >= 8 and readable_share(text) > 0.95:
            answers = text
    return Observations(
        phase=phase,
        settings=job.settings,
        frame_wanted=job.dialect.frame,
        dialect_title=job.dialect.title,
        sync_sent=job.dialect.traits.sync_sent,
        sync_answers=job.dialect.traits.sync_answers,
        boot_pin=bool(part.boot_level),
        lines=scene.lines,
        hands_enter=part.hands.enter,
        sent=sent,
        heard=LineHeard(scene.heard_before, answers, after),
        errors=link.errors() if link is not None else None,
        others=tuple(
            (other.title, other.traits.sync_answers) for other in own_dialects() if other is not job.dialect
        ),
        synced=scene.synced,
        refusal=refusal,
        silence=silence,
        progress=scene.progress,
        chip=chip,
        locked=locked,
        difference=difference,
        expected_text=job.expect,
        listened=job.console if scene.listen_since_s else None,
    )
