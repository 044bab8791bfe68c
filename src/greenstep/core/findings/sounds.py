"""The sounds of bootloaders: what each says by itself or to a stranger, according to the chip makers' documents."""

from __future__ import annotations

import re
from collections.abc import Iterable

from ..frozen import frozen
from ..quantities import readable_share, show_bytes


@frozen
class Sound:
    """`title` names the bootloader; `said` is what was recognised, fit to be quoted."""

    title: str
    said: str


Voices = Iterable[tuple[str, tuple[bytes, ...], tuple[bytes, ...]]]
"""(title, answers, sounds) of dialects: answers as bytes, and patterns for everything else they send."""

_LONGEST_BYTES = 200


def sounds_like(data: bytes, voices: Voices) -> Sound | None:
    """Which bootloader sends `data`, if any: its answer, repeated or not, or one of its other sounds."""
    if not data:
        return None
    voices = tuple(voices)
    for title, answers, _ in voices:
        for answer in answers:
            if len(data) > _LONGEST_BYTES and answer:
                data = data[: _LONGEST_BYTES // len(answer) * len(answer)]
            if answer and data == answer * (len(data) // len(answer)):
                return Sound(title, show_bytes(data))
    for title, _, sounds in voices:
        if any(re.fullmatch(sound, data, re.DOTALL) for sound in sounds):
            return Sound(title, f'"{_printable(data)}"' if readable_share(data) == 1 else show_bytes(data))
    return None


def _printable(data: bytes) -> str:
    return data.decode("ascii", "replace").strip()[:40]
