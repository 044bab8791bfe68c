"""Why a step failed: experiments on a silent line first (what is heard after a reset, at another rate, in another
dialect), then everything that was seen, as observations for the findings."""

from __future__ import annotations

from contextlib import suppress

from ..dialects.abilities import PrintsAtReset, Unlocks
from ..dialects.dialect import Dialect
from ..dialects.errors import ChipRefusal, DialectError, Silence, Unexpected
from ..dialects.registry import all_dialects, signatures
from ..errors import Finding
from ..findings.diagnosis import diagnose
from ..findings.experiments import next_experiment
from ..findings.observations import (
    AskAs,
    AskAt,
    ChipSeen,
    Difference,
    Experiment,
    LineHeard,
    ListenAt,
    Observations,
    Phase,
    WaitForTalk,
)
from ..findings.text_detection import read_boot_text
from ..hookup.circuits import entered_by
from ..hookup.waveform import Electrics, warnings
from ..link import Deadline, LineSettings, RateRefused, ResetBy
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


def rom_rate(session: Session) -> int | None:
    """The rate at which the chip's ROM prints at each reset how it was booted; None if it prints nothing."""
    dialect = session.job.dialect
    return dialect.rom_rate(session.part) if issubclass(dialect, PrintsAtReset) else None


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
        unlocks=issubclass(job.dialect, Unlocks),
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
        rom_baud=rom_rate(session),
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


_LONGEST_FOREIGN_S, _LONGEST_BY_HAND_S = 24.0, 1.7
_NEXT_WORDS_S = 1.5
_TALKS_AGAIN_S, _ENOUGH = 6.0, 24
_BUSY = 0.5
"""Share of the time."""


def enter(session: Session, dialect: type[Dialect] | None = None) -> None:
    """Run the sequence that enters the bootloader, during a break if its loader (or that of the `dialect` named)
    needs one. Raises LinesMissing, LinkLost."""
    own, asking = session.job.dialect.spec.asking, (dialect or session.job.dialect).spec.asking
    sequence = entered_by(session.job.hookup, asking.entering, own.entering).enter
    if sequence is None:  # then only a person can enter it
        return
    if (
        sequence.hangs_up and session.reset_by is ResetBy.LINES
    ):  # it answers again as its bootloader, or more of the same will not help
        session.link.sleep(0.2)
        return
    session.driver.run(sequence, asking.enters_on_break)
    session.dialect.was_reset()


def look_into(session: Session, phase: Phase) -> None:
    """Carry out experiments for as long as what was seen calls for another."""
    session.notes.first_errors = session.link.errors()
    patience_s = session.job.patience_s
    # on a line that is never quiet each question takes its longest time
    deadline = None if patience_s is None or not _is_busy(session) else Deadline.after(session.link, patience_s)
    while (experiment := next_experiment(observe(session, phase))) is not None:
        if deadline is not None and deadline.over:
            return
        if session.notes.listen_end is None:
            session.notes.end_listening()
        session.notes.tried.append(experiment)
        with suppress(RateRefused):  # the adapter cannot make this rate
            _carry_out(session, experiment, phase)


def _is_busy(session: Session) -> bool:
    """Whether the line has hardly ever been quiet since the first question."""
    heard = session.link.between(session.notes.asked_mark, None, "heard")
    return session.first_settings.seconds(len(heard)) > _BUSY * session.notes.asked_s


def _carry_out(session: Session, experiment: Experiment, phase: Phase) -> None:
    """Raises RateRefused."""
    notes, link = session.notes, session.link
    match experiment:
        case ListenAt(settings, wait_s, for_boot_text):
            link.configure(settings)
            notes.reheard = None
            heard = link.read(1, wait_s) + link.read(400, 0.4) if wait_s else _hear_after_reset(session, phase)
            if not for_boot_text or read_boot_text(heard) is not None:
                notes.reheard = settings, heard
        case AskAt(baud):
            dialect, settings = session.job.dialect, LineSettings(baud, session.job.dialect.frame)
            if baud != session.first_settings.baud:
                answer = _asked_anew(session, dialect, settings, 2)
                notes.answered_at = None if answer is None else (settings, answer)
        case AskAs(only_urgent):
            mark = link.mark
            _ask_in_other_dialects(session, only_urgent)
            notes.heard_meanwhile = link.between(mark, None, "heard")
        case WaitForTalk():
            _listen_at_the_console(session)
            link.read(_ENOUGH, _TALKS_AGAIN_S)
            link.read(_ENOUGH, _NEXT_WORDS_S)
            notes.end_listening()


def listen_for_causes(session: Session) -> None:
    """After nobody answered: reset once more and only listen, as for the application's own output; then look into the
    result."""
    _listen_at_the_console(session)
    _hear_after_reset(session, "sync")
    session.notes.end_listening()
    look_into(session, "sync")


def _hear_after_reset(session: Session, phase: Phase) -> bytes:
    """What comes after a reset: into the bootloader or, if that was left already, into the application."""
    if phase == "start":
        if session.leave is not None:
            session.driver.run(session.leave)
        return session.link.read(400, 1.5)
    if session.reset_by is not ResetBy.LINES:
        spoke = session.notes.spoke
        first = session.link.read(1, _NEXT_WORDS_S) if spoke else b""  # what talks now and then will do so again
        return first + session.link.read(400, 0.4)
    enter(session)
    return session.link.read(400, 1.5)


def _ask_in_other_dialects(session: Session, only_urgent: bool) -> None:
    """Ask in other dialects, which changes nothing on any chip. With `only_urgent`, a program runs: only loaders
    that time out, or that are entered through a break, are asked."""
    longest_s = _LONGEST_FOREIGN_S if session.reset_by is ResetBy.LINES else _LONGEST_BY_HAND_S
    if session.job.patience_s is not None:
        longest_s = min(longest_s, session.job.patience_s)
    deadline = Deadline.after(session.link, longest_s)
    for other in all_dialects():
        spec = other.spec
        reached = not only_urgent or spec.gives_up or spec.asking.enters_on_break
        if other is session.job.dialect or not spec.asking.sent or not reached or deadline.over:
            continue
        times = 2 if spec.asking.measures_rate else 3  # who measures the rate answers soon or never
        own_rate = session.job.dialect.spec.asking.at_baud  # a rate that only this dialect begins with
        usual = session.job.settings.baud if own_rate else session.first_settings.baud
        answer = _asked_anew(session, other, LineSettings(spec.asking.at_baud or usual, other.frame), times)
        if answer is not None:
            session.notes.answered_other = other.title, answer
            return


def _asked_anew(session: Session, dialect: type[Dialect], settings: LineSettings, times: int) -> str | None:
    """The answer to a number of questions, after a reset where lines can. Raises RateRefused."""
    link = session.link
    link.configure(settings)
    link.discard()
    if session.reset_by is ResetBy.LINES:
        enter(session, dialect)
        link.sleep(dialect.spec.asking.attempts[0].settle_s)
    asked = dialect(link)
    return next((answer for _ in range(times) if (answer := asked.ask(dialect.spec.asking.wait_s))), None)


def listen_for_application(session: Session) -> None:
    """After a conversation broke off: find out whether the application is running."""
    _listen_at_the_console(session)
    session.link.read(200, 0.8)


def _listen_at_the_console(session: Session) -> None:
    """Listen at the program's rate, or at the current one if the adapter cannot make that."""
    with suppress(RateRefused):
        session.link.configure(session.job.console)
    session.notes.begin_listening()
