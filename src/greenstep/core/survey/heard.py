"""What bytes heard on a line mean if nothing was asked, and at which rate a talking board is readable: listen at the
candidates, likeliest first, and score what comes."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Literal

from ..clock.rate_inference import ENOUGH_BYTES, FACTORS, Sample, likely_factors
from ..dialects.registry import signatures
from ..findings.signatures import sounds_like
from ..findings.text_detection import is_text, read_boot_text, standard_rate
from ..frozen import frozen
from ..link import Deadline, LineErrors, LineSettings, Link, RateRefused
from ..quantities import readable_share, show_heard

Kind = Literal["nothing", "rom text", "bootloader", "text", "garbage", "noise"]


@frozen
class Meaning:
    """`kind` for programs, `words` for people; `baud` is the rate at which garbage should be readable."""

    kind: Kind
    words: str
    baud: int | None = None


def meaning_of(data: bytes, settings: LineSettings) -> Meaning:
    """The most informative meaning of what was heard at `settings`."""
    if not data:
        return Meaning("nothing", "nothing heard")
    quoted = show_heard(data)
    boot_text = read_boot_text(data)
    if boot_text is not None:
        return Meaning("rom text", f'"{boot_text.quoted}": {boot_text.meaning}')
    sound = sounds_like(data, signatures().values())
    if sound is not None:
        return Meaning("bootloader", f"{sound.said}: sounds like {sound.title}")
    if is_text(data, settings.frame):
        return Meaning("text", f"{quoted}: a program's text")
    guesses = likely_factors(Sample(data, settings.frame))
    if guesses and guesses[0] != 1.0:
        baud = standard_rate(round(settings.baud * guesses[0]))
        return Meaning("garbage", f"{quoted}: garbage, readable at about {baud} baud", baud)
    return Meaning("noise", f"{quoted}: neither text nor an answer that is known")


USUAL_RATES = (115200, 9600, 57600, 38400, 19200, 74880, 230400, 460800, 921600, 4800, 2400, 1200)
_ENOUGH = 48
_ALMOST = 0.04


@frozen
class RateTried:
    """What was heard at a rate, its score (0 to 100), and whether it reads as text."""

    settings: LineSettings
    data: bytes
    score: int
    reads: bool


def find_rate(
    link: Link,
    settings: LineSettings,
    listen_s: float,
    candidates: Sequence[int] = USUAL_RATES,
    stir: Callable[[], None] | None = None,
) -> Iterator[RateTried]:
    """Listen at `settings`, then at the candidates, until one reads as text. The link is left at the last one tried.
    Each gets `listen_s` at most, less if enough has come; before each, `stir` may reset the board so that it talks.
    Raises LinkLost."""
    first = _listen(link, settings, listen_s, stir)
    yield first
    if first.reads:
        return
    for baud in _in_order(first, candidates):
        try:
            tried = _listen(link, LineSettings(baud, settings.frame), listen_s, stir)
        except RateRefused:  # the adapter cannot make this rate
            continue
        yield tried
        if tried.reads:
            return


def _in_order(first: RateTried, candidates: Sequence[int]) -> list[int]:
    """The candidates, first those that best explain what was heard."""
    others = [baud for baud in candidates if baud != first.settings.baud]
    guesses = [factor for factor in likely_factors(Sample(first.data, first.settings.frame)) if factor in FACTORS]
    if not guesses:
        return others

    def rank(baud: int) -> tuple[int, float]:
        factor = baud / first.settings.baud
        place = min(range(len(guesses)), key=lambda index: (abs(guesses[index] / factor - 1) > _ALMOST, index))
        near = abs(guesses[place] / factor - 1) <= _ALMOST
        return (place if near else len(guesses), abs(factor - 1))

    return sorted(others, key=rank)


def _listen(link: Link, settings: LineSettings, listen_s: float, stir: Callable[[], None] | None) -> RateTried:
    link.configure(settings)
    if stir is not None:
        stir()
    link.discard()
    before = link.errors()
    deadline = Deadline.after(link, listen_s)
    data = b""
    while len(data) < _ENOUGH and not deadline.over:
        data += link.read(_ENOUGH - len(data), min(0.25, deadline.left_s))
    flawed = _flawed(before, link.errors())
    clean = len(data) >= ENOUGH_BYTES and flawed * 10 <= len(data)
    # a text joined in the middle, or cut off by a reset, begins with a few characters of nonsense
    reads = clean and (is_text(data, settings.frame) or is_text(data[len(data) // 3 :], settings.frame))
    return RateTried(settings, data, _score(data, flawed, reads), reads)


def _flawed(before: LineErrors | None, after: LineErrors | None) -> int:
    if before is None or after is None:
        return 0
    return after.framing - before.framing + after.parity - before.parity


def _score(data: bytes, flawed: int, reads: bool) -> int:
    """The readable share minus the share of flawed characters; half of it for what does not read as text."""
    if not data:
        return 0
    share = max(0.0, readable_share(data) - min(1.0, flawed / len(data)))
    return round(100 * share * (1.0 if reads else 0.5))
