"""What a person asks for beyond the images: bytes that must survive, refusals to override, what may be skipped."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from enum import Enum
from typing import Any

from ..frozen import frozen
from ..spans import Span


@frozen
class Keep:
    """A range of the flash that must survive; `why` in the owner's words."""

    address: int
    size: int
    why: str = ""

    @property
    def span(self) -> Span:
        return Span.of(self.address, self.size)


class CompareWith(Enum):
    """Where it is taken from what the chip holds already, which need not be written again."""

    CHIP = "chip"
    JOURNAL = "journal"
    """The journal's last upload to this chip, if a sample read from the chip agrees."""
    NO_JOURNAL = "no-journal"
    """The chip alone, even where reading it is slow."""
    OFF = "off"
    """Nowhere: everything is written."""


@frozen
class WriteOptions:
    """What the person asked for beyond the images.

    `even_if` names refusals to override. `erase_all` erases the whole flash, not only what is touched. `settings` are
    the dialect's own. `blank`: the images are regions to be made blank, and no programs. `as_it_was`: the images were
    read from a chip and go back unchanged; the bootloader's region is left alone.
    `writes_only`: only the protection against writing is lifted.
    """

    keep: tuple[Keep, ...] = ()
    even_if: frozenset[str] = frozenset()
    erase_all: bool = False
    verify: bool = True
    settings: Mapping[str, Any] = field(default_factory=dict)
    blank: bool = False
    as_it_was: bool = False
    compare: CompareWith = CompareWith.CHIP
    writes_only: bool = False


OVERRIDES = {
    "vectors": "it does not look like a program for this chip",
    "protection": "it would protect the chip against reading",
    "lock-out": "it would lock the bootloader out for good",
    "settings": "it would overwrite what the program has stored",
    "encryption": "it is plain, and the chip encrypts or runs signed programs only",
}
"""Refusals that a person may override, each with what it says of the image."""
FOR_GOOD = ("protection", "lock-out")
"""Those whose override no later upload undoes."""


LINE_ENDS = {"crlf": b"\r\n", "lf": b"\n", "cr": b"\r", "none": b""}


@frozen
class TalkLine:
    """One turn. Wait for `expect`, at most `within_s` (empty: do not wait); then send `send` (None: nothing).
    `secret` names what was sent instead of showing it."""

    expect: str = ""
    within_s: float = 5.0
    send: str | None = None
    secret: str = ""
