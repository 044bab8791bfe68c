"""Finding the hookup: try the common ones, and listen to the chip.

Safe on every chip known here: lines pulse reset and choose the boot pin, and what is sent only asks who is there.
Nothing is written or erased. A program that runs instead of a bootloader does receive those few bytes.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Literal

from ..dialects.dialect import Dialect
from ..frozen import frozen
from ..hookup.circuits import Hookup, LineName, Role, entered_by, named_hookup
from ..hookup.drive import Driver
from ..hookup.sequence import parse_sequence
from ..link import Deadline, LineSettings, RateRefused
from ..trace.recording import RecordingLink
from .heard import Meaning, meaning_of

_LISTEN_BEFORE_S = 0.5
_LISTEN_AFTER_S = 0.7
_QUIET_S, _QUIET_WITHIN_S = 0.3, 2.0
_PULSES: tuple[LineName, ...] = ("dtr", "rts")
_GIVES_UP_WITHIN_S, _LOADER_WAITS_S, _LEAVES_WITHIN_S = 2.4, 0.25, 3.0
"""Resident loaders start the program within the first, and not before the second."""
_ASKS = 3
_TALKS = ("text", "rom text", "garbage")
"""What a program's output may look like, at the console's rate or another."""


@frozen
class Candidate:
    """A hookup to try, with the dialect that would answer behind it."""

    hookup: Hookup
    dialect: type[Dialect]
    baud: int


@frozen
class HeardBefore:
    """What was heard at `settings` before any line moved; `answer` comes from a bootloader that runs already."""

    settings: LineSettings
    meaning: Meaning
    answer: str = ""
    dialect: str = ""


@frozen
class HookupTried:
    """One candidate. 'answered': its bootloader did; 'resets': a program's text started again, so reset works and the
    boot pin was not set; 'silent': nothing in its favour."""

    hookup: str
    dialect: str
    baud: int
    outcome: Literal["answered", "resets", "silent"]
    meaning: Meaning


@frozen
class HookupFound:
    """The result: the hookup and the dialect that answered, and whether leaving was heard to work too. `resets` are
    hookups whose reset was heard to work though no bootloader answered."""

    candidate: Candidate | None
    answer: str = ""
    leaves: Literal["heard", "silent", "stays"] = "silent"
    resets: tuple[str, ...] = ()
    running_already: str = ""


SurveyEvent = HeardBefore | HookupTried | HookupFound


def candidates_for(
    dialect: type[Dialect], boot_level: str, baud: int, other_bauds: tuple[int, ...] = ()
) -> list[Candidate]:
    """The common hookups of a dialect's chips, first those whose success cannot be taken for another's; then the two
    most common at other rates."""
    if boot_level:
        names = ("dtr-reset-rts-boot", "rts-reset-dtr-boot", *(("cross-pair",) if boot_level == "low" else ()))
        hookups = [named_hookup(name, boot_level) for name in names]
        hookups += [_other_boot(hookup) for hookup in hookups[:2]]
        hookups += [named_hookup(name, boot_level) for name in ("dtr-reset-only", "rts-reset-only")]
    else:
        hookups = [
            named_hookup(name, boot_level) for name in ("cap-dtr", "cap-rts", "dtr-reset-only", "rts-reset-only")
        ]
    hookups = [entered_by(hookup, dialect.spec.asking.entering) for hookup in hookups]
    found = [Candidate(hookup, dialect, baud) for hookup in hookups]
    return found + [Candidate(hookup, dialect, other) for other in other_bauds for hookup in hookups[:2]]


def by_maker(candidates: Sequence[Candidate], usb: str) -> list[Candidate]:
    """First those whose chips come from the adapter's maker, `usb` being its VID:PID; empty if it has none."""
    maker = usb.partition(":")[0].upper() or "none"
    return sorted(candidates, key=lambda candidate: candidate.dialect.spec.asking.usb_vendor_id != maker)


def _other_boot(hookup: Hookup) -> Hookup:
    """The same with an inverter between the line and the boot pin."""
    if hookup.boot is None:
        return hookup
    return replace(
        hookup,
        name=f"{hookup.name}, boot inverted",
        boot=Role(hookup.boot.line, not hookup.boot.asserted, hookup.boot.through),
    )


def find_hookup(link: RecordingLink, candidates: Sequence[Candidate], console: LineSettings) -> Iterator[SurveyEvent]:
    """Pulse each line, and hear whether that resets; then try the candidates until one is answered, first those that
    match what was heard. The last event is `HookupFound`. Raises LinkLost, LinesMissing."""
    running = met = ""
    for heard in _before(link, candidates, console):
        running, met = heard.answer or running, heard.dialect or met
        yield heard
    resets: list[str] = []
    listened: set[Moves] = set()
    fallback: HookupFound | None = None
    waiting: list[Candidate] = list(candidates)
    tried: list[Candidate] = []
    for name, other in ((name, other) for other in (False, True) for name in _PULSES):
        if any(c.hookup.reset is not None and c.hookup.reset.line == name for c in candidates):
            pulsed, after_s = _pulsed(link, name, other, console)
            if not other or pulsed.outcome == "resets":
                yield pulsed
            if pulsed.outcome == "resets":
                resets.append(pulsed.hookup)
                running = ""  # the program was heard: its loader is over
                waiting = _likeliest_first(waiting, name, pulsed.meaning, console, after_s)
                break
    program_heard = pulsed.meaning.kind if resets and pulsed.meaning.kind in ("text", "garbage") else ""
    entered: dict[Moves, bool] = {}
    if not resets:  # a program that needs no boot pin would have been heard
        waiting.sort(key=lambda candidate: candidate.hookup.boot is None)
    waiting.sort(key=lambda candidate: candidate.dialect.name != met)  # it answered before any reset
    while waiting:
        candidate = waiting.pop(0)
        exhausted = tried and tried[-1].dialect.name == met != candidate.dialect.name
        if running and exhausted and fallback is None and (there := _still_there(link, tried[-1], running)):
            yield there
            return
        tried.append(candidate)
        driver, moves = Driver(link, candidate.hookup), _moves(candidate)
        # at another rate than the console's, a ROM that prints cannot be told from a program
        if program_heard and _needs_boot_pin(candidate, program_heard == "garbage"):
            if moves not in entered:
                meaning = meaning_of(_hear_after_reset(link, driver, candidate, console), console)
                entered[moves] = meaning.kind != program_heard
                if not entered[moves]:  # it ran the program: the boot pin is not reached so, whoever is asked
                    resets.append(candidate.hookup.name)
                    yield HookupTried(
                        candidate.hookup.name, candidate.dialect.name, candidate.baud, "resets", meaning
                    )
            if not entered[moves]:
                continue
        link.configure(console)
        link.discard()
        try:
            answer = _enter_and_ask(link, driver, candidate, running)
        except RateRefused:  # the adapter cannot make this rate
            continue
        if answer:
            leaves = _leave(link, driver, candidate, console)
            yield HookupTried(
                candidate.hookup.name,
                candidate.dialect.name,
                _asked_at(candidate.dialect, candidate.baud).baud,
                "answered",
                Meaning("bootloader", f"{answer}; {_LEAVES[leaves]}"),
            )
            found = HookupFound(candidate, answer, leaves, tuple(resets), running)
            if leaves == "heard":
                yield found
                return
            if fallback is None or (fallback.leaves, leaves) == ("stays", "silent"):
                fallback = found
            continue
        heard_after = b"" if moves in listened else _hear_after_reset(link, driver, candidate, console)
        listened.add(moves)
        meaning = meaning_of(heard_after, console)
        outcome: Literal["resets", "silent"] = "resets" if meaning.kind in _TALKS else "silent"
        if meaning.kind == program_heard:
            entered.setdefault(moves, False)
        if outcome == "resets":
            resets.append(candidate.hookup.name)
        asked_at = _asked_at(candidate.dialect, candidate.baud).baud
        yield HookupTried(candidate.hookup.name, candidate.dialect.name, asked_at, outcome, meaning)
        if not waiting and fallback is None:
            waiting = _at_other_rates(tried, resets)
    if fallback is None and running and tried and tried[-1].dialect.name == met:
        fallback = _still_there(link, tried[-1], running)
    yield fallback or HookupFound(None, resets=tuple(resets), running_already=running)


def _still_there(link: RecordingLink, tried: Candidate, running: str) -> HookupFound | None:
    """A bootloader that ran before any line moved, and that no hookup made answer otherwise: with no program to be
    heard, nothing tells whether a line resets the chip. It is there nevertheless, if it still answers."""
    link.configure(_asked_at(tried.dialect, tried.baud))
    asked = tried.dialect(link)
    if not any(asked.ask(tried.dialect.spec.asking.wait_s) for _ in range(_ASKS)):
        return None
    return HookupFound(replace(tried, hookup=named_hookup("by-hand", "")), running, running_already=running)


Moves = tuple[Role | None, bool, bool, tuple[bool, bool], str]
"""What moves reset, whether through a cross pair, whether there is a boot pin, the lines that select it, and a
dialect's own moves."""


def _moves(candidate: Candidate) -> Moves:
    hookup = candidate.hookup
    entering = candidate.dialect.spec.asking.entering if hookup.boot is not None else ""
    return hookup.reset, hookup.crossed, hookup.boot is not None, hookup.lines_for(False, True), entering


def _by_moves(waiting: Sequence[Candidate]) -> list[Candidate]:
    """In the same order, but all that move the lines alike in a row."""
    groups: dict[Moves, list[Candidate]] = {}
    for candidate in waiting:
        groups.setdefault(_moves(candidate), []).append(candidate)
    return [candidate for group in groups.values() for candidate in group]


def _needs_boot_pin(candidate: Candidate, garbled: bool) -> bool:
    spec = candidate.dialect.spec
    waits = not spec.gives_up and not spec.asking.enters_on_break and not (garbled and spec.rom_speaks)
    return candidate.hookup.boot is not None and waits


def _pulsed(link: RecordingLink, line: LineName, other: bool, console: LineSettings) -> tuple[HookupTried, float]:
    """Whether a pulse on one line resets, by wire or through a capacitor: a program, or a ROM, is heard starting
    again; and how long after the pulse. With `other` the other line is asserted meanwhile: it may hold a boot pin
    otherwise. Loaders that wait first have no boot pin, and are heard without."""
    name = f"{line}-reset-only"
    hookup = named_hookup(name, "")
    if other:
        boot = Role("rts" if line == "dtr" else "dtr")
        hookup = replace(hookup, name=f"{line}-reset-rts-boot" if line == "dtr" else "rts-reset-dtr-boot", boot=boot)
        hookup = replace(hookup, enter=parse_sequence("boot on; reset on; wait 50 ms; reset off"))
    driver = Driver(link, hookup)
    heard, after_s = b"", 0.0
    if _is_quiet(link, console):
        driver.enter()
        began_s = link.now()
        heard = link.read(1, _LISTEN_AFTER_S if other else _GIVES_UP_WITHIN_S)
        after_s = link.now() - began_s
        heard += link.read(200, _LISTEN_AFTER_S) if heard else b""
    meaning = meaning_of(heard, console)
    outcome: Literal["resets", "silent"] = "resets" if meaning.kind in _TALKS else "silent"
    return HookupTried(name, "", console.baud, outcome, meaning), after_s


def _likeliest_first(
    waiting: Sequence[Candidate], line: LineName, heard: Meaning, console: LineSettings, after_s: float
) -> list[Candidate]:
    """First those whose reset is on the line that resets. A program heard soon after it has a loader that needs a
    boot pin, one heard late has a loader that waits first; the rate is usually that of the program."""
    rate = heard.baud if heard.kind == "garbage" else console.baud
    late = after_s > _LOADER_WAITS_S

    def at_its_rate(candidate: Candidate) -> Candidate:
        spec = candidate.dialect.spec
        follows = rate is not None and not spec.asking.measures_rate and rate in spec.asking.other_bauds
        return replace(candidate, baud=rate or candidate.baud) if follows else candidate

    def unlikely(candidate: Candidate) -> tuple[bool, ...]:
        spec, hookup = candidate.dialect.spec, candidate.hookup
        if heard.kind == "rom text":
            return (not spec.rom_speaks, hookup.boot is None)
        fits = (
            spec.gives_up and hookup.boot is None if late else hookup.boot is not None or spec.asking.enters_on_break
        )
        return (not fits, late and hookup.reset is not None and hookup.reset.through != "capacitor")

    same = [c for c in waiting if c.hookup.reset is not None and c.hookup.reset.line == line]
    others = [c for c in waiting if c not in same]
    ranks = sorted({unlikely(candidate) for candidate in same})
    ordered = [c for rank in ranks for c in _by_moves([c for c in same if unlikely(c) == rank])]
    return [*dict.fromkeys(at_its_rate(candidate) for candidate in ordered), *others]


def _at_other_rates(tried: Sequence[Candidate], resets: Sequence[str]) -> list[Candidate]:
    """Loaders that do not measure the rate, at rates not yet tried, with the hookups that reset; with the two most
    common if none was seen to."""
    seen = {(c.hookup.name, c.dialect, c.baud) for c in tried}
    lines = {name.partition("-")[0] for name in resets}
    names = [name for name in _COMMONEST if not lines or name.partition("-")[2] in lines]
    return [
        replace(c, baud=baud)
        for baud in _OTHER_RATES
        for name in names
        for c in {c.dialect: c for c in tried if c.hookup.name == name}.values()
        if baud in c.dialect.spec.asking.other_bauds and (name, c.dialect, baud) not in seen
    ]


_COMMONEST = ["cap-dtr", "cap-rts"]
_OTHER_RATES = (57600, 115200, 19200, 38400, 9600)

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
    # a loader that measures the rate is spoilt by another's question: it is asked first
    ordered = sorted(kinds, key=lambda kind: (not kind[0].spec.asking.measures_rate, kind[0].spec.asking.order))
    for place, (dialect, baud) in enumerate(ordered):
        times = (
            1 if not dialect.spec.asking.measures_rate else 2 if place else 3
        )  # a loader that was asked before answers at last
        settings = _asked_at(dialect, baud)
        link.configure(settings)
        stranger = dialect(link)
        answers = [answer for _ in range(times) if (answer := stranger.ask(dialect.spec.asking.wait_s))]
        if answers:
            answer = answers[-1]
            yield HeardBefore(settings, Meaning("bootloader", answer), answer, dialect.name)
            return


def _asked_at(dialect: type[Dialect], baud: int) -> LineSettings:
    return LineSettings(dialect.spec.asking.at_baud or baud, dialect.frame)


def _enter_and_ask(link: RecordingLink, driver: Driver, candidate: Candidate, running: str) -> str:
    """The answer of a bootloader that was entered just now; one that ran before answers as before, which does not
    count."""
    dialect = candidate.dialect
    link.configure(_asked_at(dialect, candidate.baud))
    driver.enter(dialect.spec.asking.enters_on_break)
    if dialect.spec.asking.once:  # then it cannot be asked again with the lines at rest
        link.set_lines(*candidate.hookup.idle_lines)
    link.sleep(max(dialect.spec.asking.attempts[0].settle_s, 0.02))
    asked = dialect(link)
    # a loader that measures the rate answers the first question or none; others may still be starting
    for _ in range(_ASKS - 1 if dialect.spec.asking.measures_rate else _ASKS):
        answer = asked.ask(dialect.spec.asking.wait_s)
        if answer and dialect.spec.asking.once:
            return answer
        if answer and answer != running:
            # with the lines at rest it must still be there: another hookup's sequence may have entered by
            # accident, and this hookup's rest would hold the chip in reset
            link.set_lines(*candidate.hookup.idle_lines)
            link.sleep(0.02)
            return answer if any(asked.ask(dialect.spec.asking.wait_s) for _ in range(2)) else ""
    return ""


def _hear_after_reset(link: RecordingLink, driver: Driver, candidate: Candidate, console: LineSettings) -> bytes:
    """What comes at the console's rate after the same reset, and not before it."""
    if not _is_quiet(link, console):
        return b""
    driver.enter()
    return link.read(200, _LISTEN_AFTER_S)


def _is_quiet(link: RecordingLink, console: LineSettings) -> bool:
    """Whether the output of an earlier reset is over; a program that talks all the time tells nothing about one."""
    link.configure(console)
    link.discard()
    deadline = Deadline.after(link, _QUIET_WITHIN_S)
    while link.read(40, _QUIET_S):
        if deadline.over:
            return False
    return True


def _leave(
    link: RecordingLink, driver: Driver, candidate: Candidate, console: LineSettings
) -> Literal["heard", "silent", "stays"]:
    """Whether the hookup's way out works too."""
    if candidate.hookup.leave is None:
        return "silent"
    link.configure(console)
    link.discard()
    driver.run(candidate.hookup.leave)
    deadline = Deadline.after(link, _LEAVES_WITHIN_S if candidate.dialect.spec.gives_up else 2.0)
    heard = b""
    while not deadline.over:
        heard += link.read(64, min(0.3, deadline.left_s))
        if meaning_of(heard, console).kind in _TALKS:
            return "heard"
    link.configure(_asked_at(candidate.dialect, candidate.baud))
    return "stays" if candidate.dialect(link).ask(candidate.dialect.spec.asking.wait_s) else "silent"


def ask_by_hand(
    link: RecordingLink, candidates: Sequence[Candidate], patience_s: float
) -> Iterator[Candidate | None]:
    """If no line reaches reset: keep asking while a person does it; yields None about once a second, and the
    candidate that answered at last.

    A loader that measures the rate from its first byte is spoilt by another dialect's question, and some others are
    confused by its own: so they take turns of a few seconds, each that measures in a turn of its own, and the person
    presses again.
    """
    usual = {candidate.dialect: candidate.baud for candidate in reversed(candidates)}
    delicate = sorted(
        (d for d in usual if d.spec.asking.measures_rate), key=lambda dialect: dialect.spec.asking.order
    )
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
"""How long one kind of loader is asked before the other kind's turn."""


def _asked(link: RecordingLink, dialect: type[Dialect], baud: int, times: int) -> type[Dialect] | None:
    """The dialect, if it answers one of a number of questions."""
    link.configure(_asked_at(dialect, baud))
    asked = dialect(link)
    if dialect.spec.asking.enters_on_break:  # this loader waits for a reset during the break
        link.set_break(True)
        link.sleep(_BREAK_BY_HAND_S)
        link.set_break(False)
    return dialect if any(asked.ask(dialect.spec.asking.wait_s) for _ in range(times)) else None


def _grumbles(dialect: type[Dialect], heard: bytes) -> bool:
    """Whether what was heard is a dialect's answer to something it does not understand."""
    return any(answer in heard for answer in (*dialect.spec.asking.other_answers, *dialect.spec.asking.answers))
