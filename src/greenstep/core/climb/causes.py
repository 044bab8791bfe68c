"""Looking into a silence, before the finding: what is heard after a reset, at another rate, in another dialect."""

from __future__ import annotations

from contextlib import suppress

from ..dialects.base import Dialect
from ..dialects.registry import own_dialects
from ..findings.hearing import is_text
from ..findings.line_rules import may_speak_otherwise, other_dialect, runs_already
from ..findings.rate_rules import likelier_rates
from ..link import Deadline, LineSettings, RateRefused
from .evidence import observe
from .scene import Scene

_LONGEST_FOREIGN_S = 5.0
_NEXT_WORDS_S = 1.5


def enter(scene: Scene, dialect: type[Dialect] | None = None) -> None:
    """Run the sequence that enters the bootloader, through a break where its loader (or that of the `dialect`
    named) wants one. Raises LinesMissing, LinkLost."""
    sequence = scene.job.hookup.enter
    assert sequence is not None and scene.driver is not None
    if sequence.touches and scene.lines == "moved":  # it came back as its bootloader, or will not by more of the same
        scene.wire.sleep(0.2)
        return
    scene.driver.run(sequence, (dialect or scene.job.dialect).traits.breaks_in)
    scene.talk.was_reset()


def listen_for_causes(scene: Scene) -> None:
    """Before the finding: reset once more and only listen, as the application's own console would be heard; then
    look into what that gave, at another rate or in another dialect."""
    link = scene.wire
    _listen_at_the_console(scene)
    _hear_after_reset(scene)
    scene.listen_end = link.mark
    seen = observe(scene, "sync")
    if other_dialect(seen) is not None:
        return
    rates = likelier_rates(seen)
    if rates:
        _try_rates(scene, rates[:RATES_TRIED])
    elif may_speak_otherwise(seen) and not _answers_at(scene, scene.job.dialect.traits.other_bauds):
        _ask_in_other_dialects(scene, only_hasty=runs_already(seen))


RATES_TRIED = 3


def _try_rates(scene: Scene, rates: list[int]) -> None:
    """Is it understood at one of these? A loader that does not measure the rate is asked, then the program heard."""
    for rate in rates:
        if _answers_at(scene, (rate,)):
            return
        settings = LineSettings(rate, scene.job.console.frame)
        try:
            scene.wire.configure(settings)
        except RateRefused:  # an adapter that cannot make it
            continue
        scene.reheard = settings, _hear_after_reset(scene)
        if is_text(scene.reheard[1], settings.frame):
            return


def _answers_at(scene: Scene, bauds: tuple[int, ...]) -> bool:
    """Whether the bootloader answers when it is asked at another rate, after a reset by the lines. One that measures
    the rate does not need that."""
    dialect = scene.job.dialect
    if scene.lines != "moved" or dialect.traits.measures_rate:
        return False
    for baud in bauds:
        settings = LineSettings(baud, dialect.frame)
        if baud == scene.job.first_settings.baud:
            continue
        try:
            answer = _asked_anew(scene, dialect, settings, 2)
        except RateRefused:  # an adapter that cannot make it
            continue
        if answer is not None:
            scene.answered_at = settings, answer
            return True
    return False


def _hear_after_reset(scene: Scene) -> bytes:
    if scene.lines != "moved":
        spoke = scene.wire.first_at(scene.sync_mark, "heard") is not None
        first = scene.wire.read(1, _NEXT_WORDS_S) if spoke else b""  # who talks now and then will do so again
        return first + scene.wire.read(400, 0.4)
    enter(scene)
    return scene.wire.read(400, 1.5)


def _ask_in_other_dialects(scene: Scene, only_hasty: bool) -> None:
    """Is it another bootloader than the declared one? Asking changes nothing on any chip. `only_hasty`: a program
    runs, so only those are asked whose loaders give up, or are entered through a break."""
    longest_s = _LONGEST_FOREIGN_S if scene.lines == "moved" else _LONGEST_FOREIGN_S / 3
    deadline = Deadline.after(scene.wire, longest_s)
    for other in own_dialects():
        traits = other.traits
        reached = not only_hasty or traits.gives_up or traits.breaks_in
        if other is scene.job.dialect or not traits.sync_sent or not reached or deadline.over:
            continue
        answer = _asked_anew(scene, other, LineSettings(scene.job.first_settings.baud, other.frame), 3)
        if answer is not None:
            scene.answered_other = other.title, answer
            return


def _asked_anew(scene: Scene, dialect: type[Dialect], settings: LineSettings, times: int) -> str | None:
    """The answer to one of so many askings, after a reset where lines can. Raises RateRefused."""
    link = scene.wire
    link.configure(settings)
    link.discard()
    if scene.lines == "moved":
        enter(scene, dialect)
        link.sleep(dialect.traits.settles_s[0])
    asked = dialect(link)
    return next((answer for _ in range(times) if (answer := asked.ask(dialect.traits.ask_wait_s))), None)


def listen_for_application(scene: Scene) -> None:
    """After a conversation broke off: is it because the application runs?"""
    _listen_at_the_console(scene)
    scene.wire.read(200, 0.8)


def _listen_at_the_console(scene: Scene) -> None:
    """At the program's rate; where the adapter cannot make it, at the one that it has."""
    with suppress(RateRefused):
        scene.wire.configure(scene.job.console)
    scene.listen_mark = scene.wire.mark
