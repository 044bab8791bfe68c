"""What was heard is neither text nor an answer: the rates differ, and which is right."""

from __future__ import annotations

from ..clock.rate_inference import FACTORS, Sample, likely_factors
from ..errors import Finding
from ..frozen import frozen
from ..link import LineSettings, ResetBy
from ..quantities import show_bytes, show_heard
from .line_rules import echo, frame_mismatch, other_dialect, parity_flagged, rom_text
from .observations import Observations
from .text_detection import USUAL_RATES, is_text, standard_rate

_NOISE = 8
"""So many bytes are more than a switch that bounces."""


@frozen
class _Garbled:
    """Bytes that are neither text nor an answer, and the likeliest factor of the rate, if one can be told."""

    shown: bytes
    settings: LineSettings
    factor: float | None


def answers_elsewhere(seen: Observations) -> Finding | None:
    """The bootloader was asked at another rate, and answered."""
    if seen.phase != "sync" or seen.answered_at is None:
        return None
    settings, answer = seen.answered_at
    factor = _rounded(settings.baud / seen.settings.baud)
    heard = seen.heard.answers
    return Finding(
        "wrong-rate",
        f"the rates differ: the chip talks at about {factor:.3g} times your rate",
        (
            *((f"heard {show_bytes(heard)} at {seen.settings}",) if heard else ()),
            f"asked at {settings} it answered {answer}",
        ),
        (f"try --baud {settings.baud}",),
    )


def _samples(seen: Observations) -> tuple[Sample, Sample]:
    """What was heard as talk, and what came as an answer to us."""
    talk = Sample(seen.heard.after, seen.after_settings.frame)
    if seen.phase != "sync":
        return talk, Sample(b"", seen.settings.frame)
    known = (*seen.sync_answers, *seen.other_answers)
    return talk, Sample(seen.heard.answers, seen.settings.frame, seen.frame_wanted, known)


def _garbled(seen: Observations) -> _Garbled | None:
    talk, replies = _samples(seen)
    shown, settings = (
        (talk.data, seen.after_settings) if len(talk.data) >= len(replies.data) else (replies.data, seen.settings)
    )
    if len(shown) < 3 or is_text(shown, settings.frame):
        return None
    proven = _proven_rate(seen)
    if proven is not None:
        return _Garbled(shown, settings, _rounded(proven / settings.baud))
    guesses = likely_factors(talk, replies)
    return _Garbled(shown, settings, guesses[0] if guesses and guesses[0] != 1.0 else None)


def _rounded(factor: float) -> float:
    """The ratio of two rates, as one of the known ratios if it is near one."""
    near = min(FACTORS, key=lambda known: abs(known / factor - 1))
    return near if abs(near / factor - 1) < 0.01 else factor


def _proven_rate(seen: Observations) -> int | None:
    """The rate at which the board was understood, if another one was tried and worked."""
    if seen.reheard is not None and is_text(seen.reheard[1], seen.reheard[0].frame):
        return seen.reheard[0].baud
    return None


def likelier_rates(seen: Observations) -> list[int]:
    """The usual rates at which garbage should become readable, likeliest first; empty if nothing points to another
    rate."""
    if echo(seen) or frame_mismatch(seen) or parity_flagged(seen) or rom_text(seen) or other_dialect(seen):
        return []
    found = _garbled(seen)
    guesses = likely_factors(*_samples(seen)) if found is not None else []
    if found is None or not guesses or guesses[0] == 1.0:
        return []
    rates = [standard_rate(round(found.settings.baud * factor)) for factor in guesses if factor != 1.0]
    return list(dict.fromkeys(rate for rate in rates if rate in USUAL_RATES))


def garbage(seen: Observations) -> Finding | None:
    """What was heard is neither text nor an answer: the rates differ."""
    if seen.phase not in ("sync", "start"):
        return None
    found = _garbled(seen)
    if found is None:
        return None
    evidence = [f"heard {show_bytes(found.shown)} at {found.settings}"]
    if found.factor is not None:
        return _wrong_rate(seen, found, found.factor, evidence)
    return Finding(
        "garbage",
        "what came is neither an answer nor text: the rates differ, or the line is noisy",
        tuple(evidence),
        (
            "try the board's other usual rates: --baud 57600, 38400, 19200, 9600",
            "check that ground is connected, and that the adapter gives TTL levels, not RS-232",
        ),
        "possible",
    )


def program_at_its_rate(seen: Observations) -> Finding | None:
    """Garbage where a person resets: what the program or the chip's ROM prints, at a rate of its own."""
    if seen.phase != "sync" or seen.reset_by is ResetBy.LINES or seen.answered_at is not None:
        return None
    heard, asked = seen.heard.answers, seen.settings
    if len(heard) < 2 or is_text(heard, asked.frame):
        return None
    rates = likelier_rates(seen)[:2] if len(heard) >= _NOISE else []
    for baud, who in ((seen.rom_baud, "ROM"), (seen.console.baud, "program")):
        # of what is much faster each character heard holds several, and tells no rate
        if baud and baud != asked.baud and (baud in rates or (len(heard) < 4 * _NOISE and baud > 3 * asked.baud)):
            pin = ": the boot pin was not set at reset" if seen.boot_pin else ""
            evidence = [f"heard {show_bytes(heard)} at {asked}; {who} text at {baud} baud looks so"]
            if seen.reheard is not None and _proven_rate(seen) is not None:
                evidence.append(f"at {seen.reheard[0]} it reads {show_heard(seen.reheard[1])}")
            cause = f"its {who} was heard, and not its bootloader{pin}"
            return Finding("application", cause, tuple(evidence), seen.hands_enter, "likely")
    return None


def _wrong_rate(seen: Observations, found: _Garbled, factor: float, evidence: list[str]) -> Finding:
    at_start = seen.phase == "start"
    option = "--console-baud" if at_start else "--baud"
    rate = standard_rate(round(found.settings.baud * factor))
    read = _proven_rate(seen) is not None
    if read and seen.reheard is not None:
        evidence.append(f"at {seen.reheard[0]} it reads {show_heard(seen.reheard[1])}")
    else:
        evidence.append(f"it reads best as {factor:.3g} times that rate, about {rate} baud")
    tries = [f"try {option} {rate}"]
    if factor in (0.926, 1.08):
        tries = [f"the chip's clock is off by about 8 %: an untuned internal oscillator; try a lower {option}"]
    elif factor in (1 / 8, 1 / 4, 1 / 2, 2.0, 4.0, 8.0) and not at_start:
        tries.append("a crystal, prescaler or PLL other than intended shifts it by just that much: greenstep rates")
    if read and seen.boot_pin and not at_start:
        tries.insert(0, "that text is the application's: set the boot pin first, then reset")
    return Finding(
        "wrong-rate",
        f"the rates differ: the chip talks at about {factor:.3g} times your rate",
        tuple(evidence),
        (*tries, "a missing ground wire garbles too: check it"),
        "likely",
    )
