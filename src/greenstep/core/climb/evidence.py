"""What the scene has seen, as observations for the findings."""

from __future__ import annotations

from ..dialects.base import ChipRefusal, DialectError, Silence, Unexpected
from ..dialects.registry import own_dialects
from ..findings import ChipSeen, Difference, LineHeard, Observations, Refusal
from ..findings.observations import Phase
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
        sent = link.between(scene.sync_mark, scene.listen_mark, "sent")
        if not scene.synced and phase != "start":
            answers = link.between(scene.sync_mark, scene.listen_mark, "heard")
        if scene.listen_mark is not None:
            after = link.between(scene.listen_mark, None, "heard")
    if isinstance(error, ChipRefusal):
        refusal = Refusal(error.command, error.stage, error.answer, error.address)
    elif isinstance(error, Silence):
        silence = str(error)
        answers = answers or error.heard
    elif isinstance(error, Unexpected):
        answers = error.heard
    return Observations(
        phase=phase,
        settings=job.settings,
        frame_wanted=job.dialect.frame,
        dialect_title=job.dialect.title,
        sync_sent=job.dialect.traits.sync_sent,
        sync_answers=job.dialect.traits.sync_answers,
        other_answers=job.dialect.traits.other_answers,
        gives_up=job.dialect.traits.gives_up,
        boot_pin=bool(part.boot_level),
        lines=scene.lines,
        hands_enter=(scene.part or job.choice).hands.enter,
        sent=sent,
        heard=LineHeard(scene.heard_before, answers, after),
        errors=link.errors() if link is not None else None,
        others=tuple(
            (other.title, other.traits.sync_answers) for other in own_dialects() if other is not job.dialect
        ),
        synced=scene.synced,
        untouched=scene.untouched,
        refusal=refusal,
        silence=silence,
        progress=scene.progress,
        chip=chip,
        locked=locked,
        difference=difference,
        expected_text=job.expect,
        listened=job.console if scene.listen_mark is not None else None,
    )
