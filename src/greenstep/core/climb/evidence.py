"""What a session has seen, as observations for the findings; and the findings themselves."""

from __future__ import annotations

from ..dialects.errors import ChipRefusal, DialectError, Silence, Unexpected
from ..dialects.registry import signatures
from ..errors import Finding
from ..findings.diagnosis import diagnose
from ..findings.observations import ChipSeen, Difference, LineHeard, Observations, Phase
from ..hookup.waveform import Electrics, warnings
from ..link import ResetBy
from .chip_state import ChipState
from .session import Session


def explain(
    session: Session,
    phase: Phase,
    error: DialectError | None = None,
    chip: ChipSeen | None = None,
    locked: str = "",
    difference: Difference | None = None,
) -> tuple[Finding, ...]:
    """The causes of a failure in `phase`, most likely first; `error` is what ended the conversation."""
    return diagnose(observe(session, phase, error, chip, locked, difference))


def observe(
    session: Session,
    phase: Phase,
    error: DialectError | None = None,
    chip: ChipSeen | None = None,
    locked: str = "",
    difference: Difference | None = None,
) -> Observations:
    """Everything that was seen, for `phase`."""
    job, notes, spec = session.job, session.notes, session.job.dialect.spec
    silence = ""
    answers = b"" if session.synced or phase == "start" else notes.answers
    if isinstance(error, Silence):
        silence = str(error)
        answers = answers or error.heard
    elif isinstance(error, Unexpected):
        answers = error.heard
    return Observations(
        phase=phase,
        settings=session.first_settings if phase in ("sync", "chip") else session.line,
        frame_wanted=job.dialect.frame,
        dialect_title=job.dialect.title,
        sync_sent=spec.asking.sent,
        sync_answers=spec.asking.answers,
        other_answers=spec.asking.other_answers,
        gives_up=spec.gives_up,
        unlocks=spec.can_unlock,
        rom_speaks=spec.rom_speaks,
        speaks_text=spec.speaks_text,
        boot_pin=bool(session.part.boot_level),
        reset_by=session.reset_by,
        hands_enter=(job.hands_of(session.part) if session.known else job.hands).enter,
        sent=notes.sent,
        heard=LineHeard(notes.before, answers, notes.after),
        errors=session.link.errors(),
        others=tuple(signature for name, signature in signatures().items() if name != job.dialect.name),
        reheard=notes.reheard,
        answered_at=notes.answered_at,
        answered_other=notes.answered_other,
        quiet_s=0.0 if session.synced else notes.quiet_s,
        began_anew=not session.synced and notes.began_anew,
        unasked_s=notes.unasked_s,
        early=notes.early,
        warnings=_sequence_warnings(session),
        console=job.console,
        rom_baud=job.dialect.rom_rate(session.part),
        doubts=tuple(session.doubts),
        port=job.port,
        shared_with=session.shared_with,
        tried=tuple(notes.tried),
        first_errors=notes.first_errors,
        heard_meanwhile=notes.heard_meanwhile,
        other_bauds=spec.asking.other_bauds,
        asks_elsewhere=session.reset_by is ResetBy.LINES and not spec.asking.measures_rate,
        synced=session.synced,
        untouched=session.state is ChipState.UNTOUCHED,
        refusal=error if isinstance(error, ChipRefusal) else None,
        silence=silence,
        progress=session.progress,
        chip=chip,
        locked=locked,
        difference=difference,
        expected_text=notes.missing_text or job.expect,
        called_by=spec.called_by,
        repeated=session.dialect.retries if session.synced else 0,
        listened=job.console if notes.listen_mark is not None else None,
    )


def _sequence_warnings(session: Session) -> tuple[str, ...]:
    """What the pins' voltages say against the sequence that enters the bootloader."""
    hookup, part = session.job.hookup, session.part
    if hookup.enter is None or session.reset_by is not ResetBy.LINES:
        return ()
    electrics = Electrics.usual(hookup, part.wires.volts)
    return warnings(hookup, hookup.enter, electrics, part.boot_level, True, part.wires.shortest_reset_s)
