"""What a person asks for beyond the images: bytes that must survive, refusals to override, what may be skipped."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from typing import Any

from .frozen import frozen
from .spans import Span


@frozen
class Keep:
    """A range of the flash that must survive; `why` in the owner's words."""

    address: int
    size: int
    why: str = ""

    @property
    def span(self) -> Span:
        return Span.of(self.address, self.size)


@frozen
class Wishes:
    """What the person asked for beyond the images.

    `despite` names refusals to override. `erase_all` erases the whole flash, not only what is touched. `settings` are
    the dialect's own. `blank`: the images are regions to be made blank, and no programs. `as_it_was`: the images were
    read from a chip and go back unchanged; the bootloader's region is left alone. `compare`: what the chip holds
    already is not written again; `trust_journal`: and its content is taken from the journal if a sample agrees.
    `writes_only`: only the protection against writing is lifted.
    """

    keep: tuple[Keep, ...] = ()
    despite: frozenset[str] = frozenset()
    erase_all: bool = False
    verify: bool = True
    settings: Mapping[str, Any] = field(default_factory=dict)
    blank: bool = False
    as_it_was: bool = False
    compare: bool = True
    trust_journal: bool = False
    writes_only: bool = False


DESPITE = ("vectors", "protection", "lock-out", "encryption")
"""Refusals that a person may override."""
