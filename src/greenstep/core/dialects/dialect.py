"""What every dialect can be asked.

A dialect is a class over an injected `Link`. It never opens, sleeps on its own clock or prints. What differs between
dialects is stated as data (`Spec`, `Cost`), which plan, climb and findings read.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any, ClassVar, TypeVar

from ..link import Deadline
from ..spans import Span, pieces_of
from .cost import Cost, sum_costs
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected
from .line import read_until
from .results import Examination, Fitted, Identity, Provable, WriteBlock
from .spec import Spec

if TYPE_CHECKING:
    from ..chips import EraseUnit, Memory, Part
    from ..clock import UartRules
    from ..image import Image, Piece
    from ..link import Frame, Link

Answer = TypeVar("Answer")

_AFTER_SYNC_S = 0.05
LATE_TIMES = 3.2
"""How many times a dialect's time-out an answer is waited for: hubs, virtual machines and networks answer late."""


class Dialect(ABC):
    """One bootloader protocol over one link. Methods raise DialectError and LinkLost."""

    name: ClassVar[str]
    title: ClassVar[str]
    document: ClassVar[str]
    frame: ClassVar[Frame]
    spec: ClassVar[Spec]
    uart: ClassVar[UartRules | None] = None
    """How its chips' UART divides a clock, where that is no row of `clock.UARTS`."""
    decoder: ClassVar[str] = ""
    """What tells a recorded conversation: MODULE:FUNCTION; empty where nothing does."""
    answer_s: ClassVar[float] = 0.5
    """The dialect's time-out: an answer comes within it, beyond the time of its characters and of what the chip has
    to do. What is later is late, up to three times as much; what is later still is taken for lost."""

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        self.link = link
        self.settings = settings or {}
        self.met: Part | None = None
        """The chip as `examine` found it; None before that, and for dialects that need not remember it."""
        self.retries = 0
        """How often something was asked again because the chip or the line did not go along."""

    def blocks_sent(self) -> str:
        """The blocks of the last `write` as they went over the line, in words; empty where they are the plan's."""
        return ""

    @property
    def part(self) -> Part:
        """The chip as `examine` found it. Raises LookupError before that."""
        if self.met is None:
            raise LookupError(f"{self.name} has not examined the chip yet")
        return self.met

    @property
    def disturbed(self) -> int:
        """How often something came late, damaged, or not at all."""
        return self.retries

    @property
    def guards_writes(self) -> bool:
        """Whether what this very chip is sent carries a checksum that it checks."""
        return self.spec.guards_writes

    @property
    def patience_s(self) -> float:
        """How long an answer is waited for before its question is repeated. Where it is shorter than an answer can be
        late, the dialect has another way to tell whose answer comes."""
        return LATE_TIMES * self.answer_s

    def exchange(
        self,
        once: Callable[[], Answer],
        recover: Callable[[bytes], object],
        tries: int = 3,
        refusals: int = 0,
        resolve: Callable[[], Answer | None] | None = None,
        after_refusal: Callable[[], object] | None = None,
    ) -> Answer:
        """A question that may be repeated after silence or noise: it changes nothing, or does the same each time.

        An answer that comes late must never be taken for the next question's. So none is repeated before its answer
        can come no more (`patience_s`), or before `recover`, which is given what was heard instead, has brought the
        line to where only the next answer can come: it finds the start of a command again, by a question whose answer
        is like no other, or by its number. `refusals`: how many times the chip may say no, as it does to a damaged
        question; `after_refusal` then does what `recover` does else. `resolve` looks whether what was not refused was
        done all the same, and gives its result; None where it was not.

        Raises DialectError.
        """
        attempt = 0
        while True:
            attempt += 1
            try:
                return once()
            except (Silence, Unexpected) as error:
                if attempt == tries:
                    raise
                self.retries += 1
                recover(error.heard)
                if resolve is not None and (done := resolve()) is not None:
                    return done
            except ChipRefusal as refusal:
                if attempt == tries or attempt > refusals or refusal.kind is RefusalKind.LOCKED:
                    raise
                self.retries += 1
                if after_refusal is not None:
                    after_refusal()
                else:
                    recover(b"")

    def setting(self, name: str) -> Any:
        """The value of one of the dialect's own settings."""
        if name in self.settings:
            return self.settings[name]
        return next(setting.default for setting in self.spec.settings if setting.name == name)

    @classmethod
    def first_baud(cls, part: Part, baud: int) -> int:
        """The rate to ask at where `baud` is wanted: another only for loaders that change it once they answer."""
        return baud

    def change_baud(self, part: Part, baud: int) -> None:
        """Go on at another rate. Called after `examine`, only where the port is not at `baud` yet."""
        raise NotImplementedError(f"{self.name} does not change the rate")

    @classmethod
    def fit(
        cls, part: Part, images: dict[str, Image], settings: Mapping[str, Any], despite: frozenset[str]
    ) -> Fitted:
        """The images as they must be for this loader. Raises RefusedFault for what must not be written."""
        return Fitted(images)

    @classmethod
    def fit_blank(cls, part: Part, image: Image) -> tuple[Image, tuple[str, ...]]:
        """An image of blank room with what must stand in it all the same for the loader to be reached; notes."""
        return image, ()

    def must_stay(self, part: Part) -> Piece | None:
        """What of the flash an erase must put back, read from the chip: the way to the loader. None where nothing."""
        return None

    def look_before(self, part: Part, images: Mapping[str, Image], despite: frozenset[str]) -> tuple[str, ...]:
        """What only the chip can tell for or against an upload, before anything on it is changed: notes. Raises
        RefusedFault."""
        return ()

    @classmethod
    def check_backup(cls, part: Part, images: Mapping[str, Image], despite: frozenset[str]) -> None:
        """Whether what was read from a chip can be put back. Raises RefusedFault where the chip would not run."""
        return  # most show all of it

    @abstractmethod
    def ask(self, wait_s: float) -> str | None:
        """Ask once whether the bootloader is there; its answer in words, or None for silence."""

    def ask_as_known(self, wait_s: float) -> str | None:
        """The same of one that an earlier conversation left in its loader, where that needs another question."""
        return None

    @abstractmethod
    def identify(self) -> Identity: ...

    @abstractmethod
    def examine(self, part: Part) -> Examination: ...

    def erase(self, memory: Memory, units: Sequence[EraseUnit]) -> Iterator[int]:
        """Erase units; yields how many are done. Only for dialects that erase by unit."""
        raise NotImplementedError(f"{self.name} does not erase by unit")

    def erase_all(self, memory: Memory) -> None:
        """Erase all that an application may use: unit by unit, where there is no command for it."""
        for _ in self.erase(memory, memory.units_of([memory.usable])):
            pass

    def withholds(self, memory: Memory) -> str:
        """Why this very loader cannot write a memory that the part has; empty where it can, or cannot tell."""
        return ""

    @abstractmethod
    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """Write blocks; yields each as soon as the chip acknowledged it."""

    @abstractmethod
    def read(self, memory: Memory, address: int, size: int) -> bytes:
        """Read `size` bytes, at most `read_block(memory)`, from `address`."""

    def shows_again(self, memory: Memory, address: int, data: bytes) -> bool:
        """Whether `data`, which was read from `address`, is read once more, in a second way: by its checksum, with
        other addresses, or at least in blocks of another size."""
        unit = self.checksum_unit(memory)
        if memory.name == "flash" and self.can_checksum() and not address % unit and not len(data) % unit:
            return self.checksum_equals(memory, address, data)
        block = max(4, self.read_block(memory) * 3 // 4 // 4 * 4)
        return all(
            self.read(memory, address + at, min(block, len(data) - at)) == data[at : at + block]
            for at in range(0, len(data), block)
        )

    def witnesses(self, memory: Memory, gaps: Sequence[Span]) -> Sequence[Span]:
        """Places in the `gaps` after what is going to be erased, that would show it if more were: where nothing
        guards the size that is asked for."""
        return ()

    def shown_of(self, memory: Memory, place: Span) -> bytes:
        """What tells the content of such a place."""
        return self.read(memory, place.start, place.size)

    def can_checksum(self) -> bool:
        """Whether this chip offers to compute a checksum itself (known after `identify`)."""
        return False

    def checksum_equals(self, memory: Memory, address: int, data: bytes) -> bool:
        """Whether the chip's own checksum over that room is that of `data`."""
        raise NotImplementedError(f"{self.name} has no checksum")

    @classmethod
    def provable(cls, part: Part, memory: Memory, checks: tuple[Span, ...], settings: Mapping[str, Any]) -> Provable:
        """What of the spans the loader can show."""
        return Provable(checks)

    @classmethod
    def erased_by_writing(cls, part: Part, memory: Memory, spans: Sequence[Span]) -> Sequence[Span]:
        """What is erased, span by span, where `spans` of whole erase units, in order and apart, are written."""
        return spans

    def lock(self, part: Part) -> str:
        """Lock the chip against reading; what it said to it. Only for dialects that lock."""
        raise NotImplementedError(f"{self.name} does not lock")

    def unlock(self, part: Part) -> str:
        """Unlock the chip, which may erase it; what it said to it. Only for dialects that lock."""
        raise NotImplementedError(f"{self.name} does not lock")

    def lift_write_protection(self) -> str:
        """Let all erase units be written again; what the chip said to it. Only for dialects that can."""
        raise NotImplementedError(f"{self.name} lifts no write protection")

    @classmethod
    def checksum_unit(cls, memory: Memory) -> int:
        """What the chip's own checksum starts and ends on a multiple of, in bytes."""
        return memory.write_unit

    @abstractmethod
    def start(self, address: int) -> str:
        """Start the application (whose vectors are at `address`) by a command; what the chip said to it."""

    def asked_before(self, times: int, since_s: float) -> None:
        """The answer to an asking is here, after so many that seemed unanswered, so long since the first of them. It
        may be the answer to that one: then those to the others come as late, and must have passed."""
        if times:
            read_until(self.link, Deadline.after(self.link, since_s + _AFTER_SYNC_S))

    def was_reset(self) -> None:  # noqa: B027  (most know nothing that a reset changes)
        """The lines have just reset the chip: what was known of the conversation is over."""

    def abandon(self) -> None:  # noqa: B027  (most bootloaders need no word for it)
        """What is said where a write is broken off in the middle by the person."""

    def finish(self) -> None:  # noqa: B027  (most bootloaders have nothing to end)
        """End the conversation, so that the chip can be reset or left."""

    @classmethod
    @abstractmethod
    def write_block(cls, memory: Memory) -> int:
        """The largest write, in bytes; writes start on a multiple of it."""

    @classmethod
    @abstractmethod
    def read_block(cls, memory: Memory) -> int:
        """The largest read, in bytes."""

    @classmethod
    def writes_whole_blocks(cls, memory: Memory) -> bool:
        """Whether every write must fill its block (a page), rather than start and end on write units."""
        return False

    @classmethod
    @abstractmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost: ...

    @classmethod
    @abstractmethod
    def cost_of_read(cls, memory: Memory, size: int) -> Cost: ...

    @classmethod
    def cost_of_erase(cls, memory: Memory, units: Sequence[EraseUnit]) -> Cost:
        return Cost()

    @classmethod
    def cost_of_writes(cls, part: Part, memory: Memory, blocks: Sequence[WriteBlock]) -> Cost:
        """Of all blocks together, for dialects that do more than one block after the other."""
        return sum_costs(cls.cost_of_write(memory, len(block.data)) for block in blocks)

    @classmethod
    def cost_of_verify(cls, part: Part, memory: Memory, spans: Sequence[Span]) -> Cost:
        """Of proving the spans."""
        if not cls.spec.reads:
            return Cost()
        return sum_costs(cls.cost_of_read(memory, place.size) for place in pieces_of(spans, cls.read_block(memory)))
