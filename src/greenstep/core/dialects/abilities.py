"""What some loaders can do, and others cannot.

A dialect that has an ability is a subclass of it beside `Dialect`; whoever needs the ability asks by type
(`isinstance(dialect, ProvesRate)`, or `issubclass` of the dialect that is going to be used). So no dialect has
methods that only say that it has none.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, ClassVar

from ..spans import Span
from .spec import Spec

if TYPE_CHECKING:
    from ..chips.part import Memory, Part
    from ..image import Image, Piece
    from .dialect import Dialect

PROOF_BYTES = 4096
"""How much a rate must carry each way before it is used."""


# --- rates


class ProvesRate(ABC):
    @abstractmethod
    def prove_rate(self, part: Part, size: int = PROOF_BYTES) -> None:
        """Exchange at least `size` bytes each way, so that any damaged character shows, and change nothing that
        lasts. Called before or after `examine`. Raises DialectError; what had to be repeated is in `disturbed`."""


class ChangesRate(ABC):
    spec: ClassVar[Spec]

    def offers_rate(self, baud: int) -> bool:
        """Whether the loader may know a rate, as far as that is known without asking it to go there. Called after
        `identify`."""
        return not self.spec.rates or baud in self.spec.rates

    @abstractmethod
    def move_to_rate(self, part: Part, baud: int) -> None:
        """Continue at another rate. Called after `examine`, and only if the port is not at `baud` yet."""


class TellsClock(ABC):
    @abstractmethod
    def clock_hz(self) -> float | None:
        """The clock that the loader says it runs at; None if it does not tell."""


class PrintsAtReset(ABC):
    @classmethod
    @abstractmethod
    def rom_rate(cls, part: Part) -> int | None:
        """The rate at which the chip's ROM prints at each reset how it was booted."""


# --- protection


class Locks(ABC):
    @abstractmethod
    def lock(self, part: Part) -> str:
        """Lock the chip against reading; what it said to it."""


class Unlocks(ABC):
    @abstractmethod
    def unlock(self, part: Part) -> str:
        """Unlock the chip, which may erase it. Returns its answer."""


class LiftsWriteProtection(ABC):
    @abstractmethod
    def lift_write_protection(self) -> str:
        """Make all erase units writable again. Returns the chip's answer."""


# --- what an upload does besides


class LoaderInFlash(ABC):  # noqa: B024  (each method has a usual answer, and no loader needs all of them)
    """A loader that a program's upload or an erase could cut off."""

    def must_stay(self, part: Part) -> Piece | None:
        """The part of the flash that an erase must write back, read from the chip: the way to the loader. None if
        there is none."""
        return None

    def loader_room(self, part: Part) -> int | None:
        """How much of the top of the flash the loader that answers takes, read from the chip, in bytes; None if it
        cannot be told."""
        return None

    @classmethod
    def fit_blank(cls, part: Part, image: Image) -> tuple[Image, tuple[str, ...]]:
        """An image of a blank region with what must stay in it for the loader to be reachable; and notes."""
        return image, ()


class ErasesMore(ABC):
    @classmethod
    @abstractmethod
    def erased_by_writing(cls, part: Part, memory: Memory, spans: Sequence[Span]) -> Sequence[Span]:
        """What is erased, span by span, when `spans` of whole erase units, in order and disjoint, are written."""


class WritesAlong(ABC):
    @classmethod
    @abstractmethod
    def written_along(cls, part: Part, memory: Memory) -> Span | None:
        """A place of the image that is written anew whenever anything else is, though it may hold the same already:
        while it is blank the loader is in reach. None if there is none."""


class Witnesses(ABC):
    """Nothing guards the size that this loader is asked to erase."""

    @abstractmethod
    def witnesses(self, memory: Memory, gaps: Sequence[Span]) -> Sequence[Span]:
        """Places in the `gaps` after what is going to be erased that would show if more were."""

    @abstractmethod
    def shown_of(self, memory: Memory, place: Span) -> bytes:
        """What identifies the content of such a place."""


class ChecksBackup(ABC):
    @classmethod
    @abstractmethod
    def check_backup(cls, part: Part, images: Mapping[str, Image], even_if: frozenset[str]) -> None:
        """Check that what was read from a chip can be written back. Raises RefusedFault if the chip would not run."""


# --- the conversation


class AskedAsKnown(ABC):
    @abstractmethod
    def ask_as_known(self, wait_s: float) -> str | None:
        """`ask`, for a loader left running by an earlier conversation, which needs another question."""


class TakesOver(ABC):
    @abstractmethod
    def take_over(self, before: Dialect) -> None:
        """The chip was reset, and answers again: what an earlier conversation with it has left open is looked at.
        Raises DialectError."""


class Cancels(ABC):
    @abstractmethod
    def cancel(self) -> None:
        """What is sent when a person breaks off a write in the middle."""


class Seals(ABC):
    @abstractmethod
    def seal(self, part: Part, image: Image) -> str:
        """Say to the loader that the chip now holds all of `image`. Returns what it answered, in words; empty if
        nothing was said. Raises DialectError."""


class Checksums(ABC):
    """The chip computes checksums of its flash itself."""

    def can_checksum(self) -> bool:
        """Whether this very chip can (known after `identify`)."""
        return True

    @abstractmethod
    def checksum_equals(self, memory: Memory, address: int, data: bytes) -> bool:
        """Whether the chip's own checksum over that span is that of `data`."""

    @classmethod
    def checksum_unit(cls, memory: Memory) -> int:
        """The alignment, in bytes, of where the chip's own checksum starts and ends."""
        return memory.write_unit


def summing(dialect: object) -> Checksums | None:
    """The dialect, if the chip at its other end can compute checksums."""
    return dialect if isinstance(dialect, Checksums) and dialect.can_checksum() else None


class TellsSums(ABC):
    @abstractmethod
    def sums_seen(self) -> tuple[str, ...]:
        """What the chip told at the last comparison, in words: for loaders that show sums only."""
