"""What bytes heard on a line mean if nothing was asked."""

from __future__ import annotations

from typing import Literal

from ..dialects.registry import signatures
from ..findings.boot_text import read_boot_text
from ..findings.hearing import is_text, standard_rate
from ..findings.signatures import sounds_like
from ..frozen import frozen
from ..line_rate import Sample, likely_factors
from ..link import LineSettings
from ..quantities import show_heard

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
