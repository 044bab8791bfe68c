"""Finding the hookup: trying the common ones, and hearing what the chip says.

Safe on every chip that is known here: lines pulse reset and choose the boot pin, and what is sent only asks who is
there. Nothing is written or erased. A program that runs instead of a bootloader does receive those few bytes.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Literal

from ..dialects.base import Dialect
from ..frozen import frozen
from ..hookup import Driver, Hookup, Role, named_hookup
from ..link import Deadline, LineSettings, RateRefused
from ..recording import RecordingLink
from .meaning import Meaning, meaning_of

_LISTEN_BEFORE_S = 0.5
_LISTEN_AFTER_S = 0.7
_QUIET_S, _QUIET_WITHIN_S = 0.3, 2.0
_ASKS = 3
_TALKS = ("text", "rom text", "garbage")
"""What a program's voice may sound like, at the console's rate or another."""


@frozen
class Candidate:
    """A hookup to try, with the dialect that would answer behind it."""

    hookup: Hookup
    dialect: type[Dialect]
    baud: int


@frozen
class HeardBefore:
    """What was heard at `settings` before any line moved; `answer` is of a bootloader that runs already."""

    settings: LineSettings
    meaning: Meaning
    answer: str = ""
    dialect: str = ""


@frozen
class Tried:
    """One candidate. 'answered': its bootloader did; 'resets': a program's text came anew, so reset works and the
    boot pin was not set; 'silent': nothing that speaks for it."""

    hookup: str
    dialect: str
    baud: int
    outcome: Literal["answered", "resets", "silent"]
    meaning: Meaning


@frozen
class Learnt:
    """What came out: the hookup and the dialect that answered, and whether leaving was heard to work too. `resets`
    are hookups whose reset was heard to work though no bootloader answered."""

    candidate: Candidate | None
    answer: str = ""
    leaves: Literal["heard", "silent", "stays"] = "silent"
    resets: tuple[str, ...] = ()
    running_already: str = ""


SurveyEvent = HeardBefore | Tried | Learnt


def candidates_for(
    dialect: type[Dialect], boot_level: str, baud: int, other_bauds: tuple[int, ...] = ()
) -> list[Candidate]:
    """The common hookups of a dialect's chips, those first whose success would not be taken for another's; then the
    commonest two at other rates."""
    if boot_level:
        names = ("direct-dtr-reset", "direct-rts-reset", "cross-pair")
        hookups = [named_hookup(name, boot_level) for name in names]
        hookups += [_other_boot(hookup) for hookup in hookups[:2]]
        hookups += [named_hookup(name, boot_level) for name in ("dtr-reset", "rts-reset")]
    else:
        hookups = [named_hookup(name, boot_level) for name in ("cap-dtr", "cap-rts", "dtr-reset", "rts-reset")]
    found = [Candidate(hookup, dialect, baud) for hookup in hookups]
    return found + [Candidate(hookup, dialect, other) for other in other_bauds for hookup in hookups[:2]]


def _other_boot(hookup: Hookup) -> Hookup:
    """The same with an inverter between the line and the boot pin."""
    assert hookup.boot is not None
    return replace(
        hookup,
        name=f"{hookup.name}, boot inverted",
        boot=Role(hookup.boot.line, not hookup.boot.asserted, hookup.boot.through),
    )


def learn_hookup(
    link: RecordingLink, candidates: Sequence[Candidate], console: LineSettings
) -> Iterator[SurveyEvent]:
    """Try the candidates in order until one is answered; the last event is `Learnt`. Raises LinkLost,
    LinesMissing."""
    running = ""
    for heard in _before(link, candidates, console):
        running = heard.answer or running
        yield heard
    resets: list[str] = []
    listened: set[str] = set()
    fallback: Learnt | None = None
    for candidate in candidates:
        link.configure(console)
        link.discard()
        driver = Driver(link, candidate.hookup)
        try:
            answer = _enter_and_ask(link, driver, candidate, running)
        except RateRefused:  # an adapter that cannot make it
            continue
        if answer:
            leaves = _leave(link, driver, candidate, console)
            yield Tried(
                candidate.hookup.name,
                candidate.dialect.name,
                candidate.baud,
                "answered",
                Meaning("bootloader", f"{answer}; {_LEAVES[leaves]}"),
            )
            learnt = Learnt(candidate, answer, leaves, tuple(resets), running)
            if leaves == "heard":
                yield learnt
                return
            if fallback is None or (fallback.leaves, leaves) == ("stays", "silent"):
                fallback = learnt
            continue
        moves = f"{candidate.hookup.name} {candidate.hookup.enter}"
        heard_after = b"" if moves in listened else _hear_after_reset(link, driver, candidate, console)
        listened.add(moves)
        meaning = meaning_of(heard_after, console)
        outcome: Literal["resets", "silent"] = "resets" if meaning.kind in _TALKS else "silent"
        if outcome == "resets":
            resets.append(candidate.hookup.name)
        yield Tried(candidate.hookup.name, candidate.dialect.name, candidate.baud, outcome, meaning)
    yield fallback or Learnt(None, resets=tuple(resets), running_already=running)


_LEAVES = {
    "heard": "after leaving, the program was heard",
    "silent": "after leaving, nothing was heard",
    "stays": "leaving did not leave",
}


def _before(link: RecordingLink, candidates: Sequence[Candidate], console: LineSettings) -> Iterator[HeardBefore]:
    """Listen, and ask without moving a line: is a bootloader there already?"""
    link.configure(console)
    yield HeardBefore(console, meaning_of(link.read(400, _LISTEN_BEFORE_S), console))
    kinds = {candidate.dialect: candidate.baud for candidate in reversed(candidates)}.items()
    # a loader that measures the rate from its first byte is spoilt by another's question: it is asked first
    ordered = sorted(kinds, key=lambda kind: (not kind[0].traits.measures_rate, kind[0].traits.turn))
    for place, (dialect, baud) in enumerate(ordered):
        settings = LineSettings(baud, dialect.frame)
        link.configure(settings)
        stranger = dialect(link)
        answers = [answer for _ in range(2 if place else 3) if (answer := stranger.ask(dialect.traits.ask_wait_s))]
        if answers:
            answer = answers[-1]
            yield HeardBefore(settings, Meaning("bootloader", answer), answer, dialect.name)
            return


def _enter_and_ask(link: RecordingLink, driver: Driver, candidate: Candidate, running: str) -> str:
    """The answer of a bootloader that was entered just now; one that ran before answers as it did, and is none."""
    dialect = candidate.dialect
    assert candidate.hookup.enter is not None
    link.configure(LineSettings(candidate.baud, dialect.frame))
    driver.run(candidate.hookup.enter, dialect.traits.breaks_in)
    link.sleep(max(dialect.traits.settles_s[0], 0.02))
    asked = dialect(link)
    # who measures the rate answers the first question or none; others may still be starting up
    for _ in range(_ASKS - 1 if dialect.traits.measures_rate else _ASKS):
        answer = asked.ask(dialect.traits.ask_wait_s)
        if answer and answer != running:
            # with the lines at rest it must still be there: another hookup's sequence may have entered by accident,
            # and this one's rest would hold the chip in reset
            link.set_lines(*candidate.hookup.idle_lines)
            link.sleep(0.02)
            return answer if any(asked.ask(dialect.traits.ask_wait_s) for _ in range(2)) else ""
    return ""


def _hear_after_reset(link: RecordingLink, driver: Driver, candidate: Candidate, console: LineSettings) -> bytes:
    """What comes at the console's rate after the same reset, and not before it."""
    assert candidate.hookup.enter is not None
    link.configure(console)
    link.discard()
    deadline = Deadline.after(link, _QUIET_WITHIN_S)
    while link.read(40, _QUIET_S):  # what still comes of the reset before
        if deadline.over:  # a program that talks all the time says nothing about a reset
            return b""
    driver.run(candidate.hookup.enter)
    return link.read(200, _LISTEN_AFTER_S)


def _leave(
    link: RecordingLink, driver: Driver, candidate: Candidate, console: LineSettings
) -> Literal["heard", "silent", "stays"]:
    """Whether the hookup's way out works as well."""
    if candidate.hookup.leave is None:
        return "silent"
    link.configure(console)
    link.discard()
    driver.run(candidate.hookup.leave)
    deadline = Deadline.after(link, 2.0)
    heard = b""
    while not deadline.over:
        heard += link.read(64, min(0.3, deadline.left_s))
        if meaning_of(heard, console).kind in _TALKS:
            return "heard"
    link.configure(LineSettings(candidate.baud, candidate.dialect.frame))
    return "stays" if candidate.dialect(link).ask(candidate.dialect.traits.ask_wait_s) else "silent"


def ask_by_hand(
    link: RecordingLink, candidates: Sequence[Candidate], patience_s: float
) -> Iterator[Candidate | None]:
    """Where no line reaches reset: keep asking while a person does it; yields None about once a second, and the
    candidate that was answered at last.

    A loader that measures the rate from its first byte is spoilt by another dialect's question, and some others are
    thrown out by its own: so they are asked by turns of a few seconds, each of those that measure in a turn of its
    own, and the person presses again."""
    usual = {candidate.dialect: candidate.baud for candidate in reversed(candidates)}
    delicate = sorted((d for d in usual if d.traits.measures_rate), key=lambda dialect: dialect.traits.turn)
    turns = [[dialect] for dialect in delicate]
    others = [dialect for dialect in usual if dialect not in delicate]
    turns += [others] if others else []
    began = told_at = link.now()
    while (passed_s := link.now() - began) < patience_s:
        for dialect in turns[int(passed_s / TURN_S) % len(turns)]:
            mark = link.mark
            found = _asked(link, dialect, usual[dialect], 1)
            heard = link.between(mark, None, "heard")
            if not found and heard:
                found = next((o for o in others if _grumbles(o, heard) and _asked(link, o, usual[o], 6)), None)
            if found:
                yield next(candidate for candidate in candidates if candidate.dialect is found)
                return
        if link.now() - told_at >= 1.0:
            told_at = link.now()
            yield None


_BREAK_BY_HAND_S = 0.4
TURN_S = 5.0
"""How long one kind of loader is asked before it is the other kind's turn."""


def _asked(link: RecordingLink, dialect: type[Dialect], baud: int, times: int) -> type[Dialect] | None:
    """The dialect, if it answers one of so many askings."""
    link.configure(LineSettings(baud, dialect.frame))
    asked = dialect(link)
    if dialect.traits.breaks_in:  # a reset pressed during the break is what the loader waits for
        link.set_break(True)
        link.sleep(_BREAK_BY_HAND_S)
        link.set_break(False)
    return dialect if any(asked.ask(dialect.traits.ask_wait_s) for _ in range(times)) else None


def _grumbles(dialect: type[Dialect], heard: bytes) -> bool:
    """Whether what was heard is what a dialect says to something it does not understand."""
    return any(answer in heard for answer in (*dialect.traits.other_answers, *dialect.traits.sync_answers))
