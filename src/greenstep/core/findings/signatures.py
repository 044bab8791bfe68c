"""By what bootloaders are recognised: what each says by itself or to a stranger, by the chip makers' documents."""

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


@frozen
class Signature:
    """What a bootloader may be recognised by: all of its answers to what it is asked, right or wrong, as they are;
    and patterns for everything else that it sends."""

    title: str
    answers: tuple[bytes, ...]
    sounds: tuple[bytes, ...]


_LONGEST_BYTES = 200


def sounds_like(data: bytes, signatures: Iterable[Signature]) -> Sound | None:
    """Which bootloader sends `data`, if any: its answer, repeated or not, or one of its other sounds."""
    if not data:
        return None
    signatures = tuple(signatures)
    for signature in signatures:
        for answer in signature.answers:
            if len(data) > _LONGEST_BYTES and answer:
                data = data[: _LONGEST_BYTES // len(answer) * len(answer)]
            if answer and data == answer * (len(data) // len(answer)):
                return Sound(signature.title, show_bytes(data))
    for signature in signatures:
        if any(re.fullmatch(sound, data, re.DOTALL) for sound in signature.sounds):
            return Sound(signature.title, f'"{_printable(data)}"' if readable_share(data) == 1 else show_bytes(data))
    return None


def _printable(data: bytes) -> str:
    return data.decode("ascii", "replace").strip()[:40]
