"""What the scene has seen, as observations for the findings."""

from __future__ import annotations

from itertools import pairwise

from ..dialects.base import ChipRefusal, DialectError, Silence, Unexpected
from ..dialects.registry import own_dialects
from ..findings import ChipSeen, Difference, LineHeard, Observations, Refusal
from ..findings.observations import Phase
from ..hookup.waveform import Electrics, warnings
from .scene import Scene


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
            after = link.between(scene.listen_mark, scene.listen_end, "heard")
    if isinstance(error, ChipRefusal):
        refusal = Refusal(error.command, error.stage, error.answer, error.address, error.said)
    elif isinstance(error, Silence):
        silence = str(error)
        answers = answers or error.heard
    elif isinstance(error, Unexpected):
        answers = error.heard
    return Observations(
        phase=phase,
        settings=job.first_settings if phase in ("sync", "chip") else job.settings,
        frame_wanted=job.dialect.frame,
        dialect_title=job.dialect.title,
        sync_sent=job.dialect.traits.sync_sent,
        sync_answers=job.dialect.traits.sync_answers,
        other_answers=job.dialect.traits.other_answers,
        gives_up=job.dialect.traits.gives_up,
        rom_speaks=job.dialect.traits.rom_speaks,
        speaks_text=job.dialect.traits.speaks_text,
        boot_pin=bool(part.boot_level),
        lines=scene.lines,
        hands_enter=(scene.part or job.choice).hands.enter,
        sent=sent,
        heard=LineHeard(scene.heard_before, answers, after),
        errors=link.errors() if link is not None else None,
        others=tuple(
            (other.title, other.traits.sync_answers + other.traits.other_answers, other.traits.sounds)
            for other in own_dialects()
            if other is not job.dialect
        ),
        reheard=scene.reheard,
        answered_at=scene.answered_at,
        answered_other=scene.answered_other,
        quiet_s=_quiet_s(scene),
        began_anew=_began_anew(scene),
        unasked_s=scene.unasked_s,
        early=scene.early,
        warnings=_sequence_warnings(scene),
        synced=scene.synced,
        untouched=scene.untouched,
        refusal=refusal,
        silence=silence,
        progress=scene.progress,
        chip=chip,
        locked=locked,
        difference=difference,
        expected_text=scene.missing_text or job.expect,
        listened=job.console if scene.listen_mark is not None else None,
    )


def _sequence_warnings(scene: Scene) -> tuple[str, ...]:
    """What the pins' voltages say against the sequence that enters."""
    hookup, part = scene.job.hookup, scene.part or scene.job.choice.first
    if hookup.enter is None or scene.lines != "moved":
        return ()
    electrics = Electrics.usual(hookup, part.wires.volts)
    return warnings(hookup, hookup.enter, electrics, part.boot_level, True, part.wires.shortest_reset_s)


def _quiet_s(scene: Scene) -> float:
    """How long nothing came from when we began to ask."""
    if scene.link is None or scene.synced:
        return 0.0
    first = scene.link.first_at(scene.sync_mark, "heard")
    return (scene.link.now() if first is None else first) - scene.sync_since_s


def _began_anew(scene: Scene) -> bool:
    """Whether the silence before the first text is longer than those behind it: a program that talks now and then
    would have been heard before, one that was just started talks more at its start."""
    if scene.link is None or scene.synced:
        return False
    times = scene.link.times("heard", scene.sync_mark, scene.listen_mark)
    if not times:
        return False
    quiet_s = times[0] - scene.sync_since_s
    pauses = [later - earlier for earlier, later in pairwise(times)]
    if max(pauses, default=0.0) > _PAUSE_S:
        return quiet_s > _LONGER * max(pauses)
    return scene.link.now() - times[-1] > _LONGER * quiet_s


_PAUSE_S = 0.15
_LONGER = 1.5
