"""What to try next, before a failure is explained: each experiment adds to what was seen."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from ..link import LineSettings
from .line_rules import may_speak_otherwise, other_dialect, runs_already
from .observations import AskAs, AskAt, Experiment, ListenAt, Observations, WaitForTalk
from .rate_rules import likelier_rates
from .text_detection import ROM_RATES, is_text, read_boot_text
from .verify_rules import other_text

_RATES_TRIED = 3
_TALKS_AGAIN_S = 6.0


def next_experiment(seen: Observations) -> Experiment | None:
    """The first that is worthwhile and was not tried yet; None if the findings have all they can get."""
    if seen.answered_at is not None or seen.answered_other is not None or _reads(seen):
        return None
    first = replace(seen, reheard=None, errors=seen.first_errors)  # experiments at wrong rates cause more of them
    return next((experiment for experiment in _worth_it(first) if experiment not in seen.tried), None)


def _reads(seen: Observations) -> bool:
    """Whether what was heard at other settings reads as text, and so has shown what is there."""
    if seen.reheard is None:
        return False
    settings, heard = seen.reheard
    last = seen.tried[-1]
    if isinstance(last, ListenAt) and last.for_boot_text:
        return read_boot_text(heard) is not None
    return is_text(heard, settings.frame)


def _worth_it(seen: Observations) -> Iterator[Experiment]:
    """All of them, in order, judged by what was seen first."""
    frame = seen.console.frame
    if seen.phase == "start":
        if other_text(seen) is not None:
            return
        yield from (ListenAt(LineSettings(rate, frame)) for rate in likelier_rates(seen)[:_RATES_TRIED])
        return
    if other_dialect(seen) is not None:
        return
    waited = WaitForTalk() in seen.tried
    heard = seen.heard.after + seen.heard.answers
    if seen.rom_speaks and len(heard) >= 3 and not is_text(heard, frame) and not waited:
        settings = (LineSettings(rate, frame) for rate in ROM_RATES)
        yield from (ListenAt(other, for_boot_text=True) for other in settings if other != seen.console)
    rates = likelier_rates(seen)[:_RATES_TRIED]
    if waited:
        yield from (ListenAt(LineSettings(rate, frame), _TALKS_AGAIN_S) for rate in rates)
    elif rates:
        for rate in rates:
            if seen.asks_elsewhere:
                yield AskAt(rate)
            yield ListenAt(LineSettings(rate, frame))
    elif may_speak_otherwise(seen):
        if seen.asks_elsewhere:
            yield from (AskAt(baud) for baud in seen.other_bauds)
        yield AskAs(only_urgent=runs_already(seen))
        if (
            not seen.heard.everything and seen.heard_meanwhile
        ):  # no reset reaches this program, and it will talk again
            yield WaitForTalk()
