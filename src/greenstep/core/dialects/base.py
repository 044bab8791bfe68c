"""What every dialect can be asked, and how it says that the line or the chip did not go along.

A dialect is a class over an injected `Link`. It never opens, sleeps on its own clock or prints. What
differs between dialects is stated as data (`Traits`, `Cost`), which plan, climb and findings read.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any, ClassVar, Literal, TypeVar

from ..frozen import frozen
from ..image import Piece
from ..link import Deadline
from ..quantities import readable_share, show_bytes, show_heard
from ..spans import Span, pieces_of

if TYPE_CHECKING:
    from ..chips import EraseUnit, Memory, Part
    from ..image import Image
    from ..link import Frame, LineSettings, Link
    from ..talk import TalkLine

Answer = TypeVar("Answer")

_AFTER_SYNC_S = 0.05
LATE_TIMES = 3.2
"""How many times a dialect's time-out an answer is waited for: hubs, virtual machines and networks answer late."""


class DialectError(Exception):
    """Something between us and the chip went otherwise than the document says."""


class Silence(DialectError):
    """Nothing, or too little, came. `heard` is what did come."""

    def __init__(self, waiting_for: str, waited_s: float, heard: bytes = b"") -> None:
        after = f" (only {show_bytes(heard)})" if heard else ""
        super().__init__(f"no {waiting_for} within {waited_s:.1f} s{after}")
        self.waiting_for = waiting_for
        self.waited_s = waited_s
        self.heard = heard


class Unexpected(DialectError):
    """Something else came than what the document allows there."""

    def __init__(self, waiting_for: str, heard: bytes) -> None:
        super().__init__(f"{show_heard(heard)} in place of {waiting_for}")
        self.waiting_for = waiting_for
        self.heard = heard


class NotReset(Unexpected):
    """The loader goes on from where an earlier conversation left it, and must be reset first."""


class ErasedUnasked(DialectError):
    """The answer is that to another command than was sent, one that erases: it was damaged on its way."""


Stage = Literal["command", "address", "data"]


class ChipRefusal(DialectError):
    """The chip said no. `stage` is the part of the command it refused; `answer` its own byte(s), `said` what they
    mean."""

    def __init__(self, command: str, stage: Stage, answer: bytes, address: int | None = None, said: str = "") -> None:
        at = "" if address is None else f" at {address:08X}"
        super().__init__(f"{said or show_bytes(answer)} after the {stage} of '{command}'{at}")
        self.said = said or show_bytes(answer)
        self.command = command
        self.stage: Stage = stage
        self.answer = answer
        self.address = address


@frozen
class Setting:
    """A value that only one dialect has: `set = { name = … }` of a board, `--set name=…`.

    `kind` says what it is; a 'talk' is a list of turns as in `talk`. `choices` are all words allowed, if not empty.
    """

    name: str
    kind: Literal["number", "text", "talk"]
    default: int | str | tuple[TalkLine, ...]
    help: str
    choices: tuple[str, ...] = ()


@frozen
class Traits:
    """What a dialect can do and how, for plan, climb, findings and help.

    `erases`: 'by unit' is a step of its own, and so is 'all at once', which knows no units; 'inside write' happens
    page by page as pages are written. `erases_alone`: whether it can erase where nothing is to be written.
    `reads`: whether it can read back; where it cannot, what it acknowledged block by block is all the evidence.
    `reads_slowly`: only what the chip's own checksums say differs is worth reading.
    `erases_in_order`: a write may erase another page than the one that it names: one for each write since the reset,
    from the start of the memory on. So all is written in order, in one go, from a reset on.
    `tells_chip`: whether the loader says which chip it is. `locks`: which of lock and unlock it can.
    `lifts_write_protection`: whether erase units may be write-protected, and it can lift that.
    `settings`: the values that only this dialect has.
    `sounds`: patterns (regular expressions over bytes, whole) of what it says, beyond its answers to being asked.
    `rom_speaks`: whether the chip's ROM prints at each reset how it was booted.
    `speaks_text`: whether its answers are text too, in capitals and digits.
    `breaks_in`: whether the loader stays where its RX is held low (a break) while reset is let go. `start_answers`:
    whether what `start` returns is the loader's own answer, and so evidence.
    `turn`: when it is asked by who does not know the dialect, lowest first: who only listens harms none; a loader
    that measures the rate must hear its own byte before any other's; short questions come before long ones.
    `guards_writes`: whether a write carries a checksum that the chip checks.
    `starts_by`: how the application is best started where both ways are open, 'reset' by the lines or a
    'command' of the bootloader.
    `gives_up`: whether the loader starts the application by itself when it hears nothing it understands.
    `sync_sent`, `sync_answers`: what is sent to ask who is there, and the answers that prove it;
    `other_answers`: what it says to what it does not understand.
    `settles_s`: how long to wait after each reset before asking; a reset for each, then it is given up.
    `measures_rate`: whether the loader measures the rate from the first byte it hears, which must be its own.
    `other_bauds`: rates that its loaders are built for besides the parts' usual one.
    `ask_wait_s`: how long one asking waits for its answer. `asks`: askings after each reset,
    as many numbers as `settles_s`.
    """

    erases: Literal["by unit", "inside write", "all at once"]
    guards_writes: bool
    starts_by: Literal["reset", "command"]
    gives_up: bool
    sync_sent: bytes
    sync_answers: tuple[bytes, ...]
    other_answers: tuple[bytes, ...]
    settles_s: tuple[float, ...]
    ask_wait_s: float
    asks: tuple[int, ...]
    measures_rate: bool = False
    other_bauds: tuple[int, ...] = ()
    erases_alone: bool = False
    reads: bool = True
    reads_slowly: bool = False
    erases_in_order: bool = False
    tells_chip: bool = True
    locks: tuple[Literal["lock", "unlock"], ...] = ()
    lifts_write_protection: bool = False
    settings: tuple[Setting, ...] = ()
    turn: int = 50
    sounds: tuple[bytes, ...] = ()
    breaks_in: bool = False
    start_answers: bool = True
    rom_speaks: bool = False
    speaks_text: bool = False


@frozen
class Cost:
    """What an exchange costs: characters each way, turnarounds that must be waited for, chip busy time."""

    sent: int = 0
    heard: int = 0
    turnarounds: int = 0
    busy_s: float = 0.0

    def __add__(self, other: Cost) -> Cost:
        return Cost(
            self.sent + other.sent,
            self.heard + other.heard,
            self.turnarounds + other.turnarounds,
            self.busy_s + other.busy_s,
        )

    def seconds(self, settings: LineSettings, turnaround_s: float) -> float:
        line_s = settings.seconds(self.sent + self.heard)
        return line_s + self.turnarounds * turnaround_s + self.busy_s


@frozen
class Identity:
    """Who answered: the number that tells the chip (None where the loader does not tell), how it was said, and what
    else the loader told."""

    ident: int | None
    said: str
    details: tuple[tuple[str, str], ...] = ()


@frozen
class Examination:
    """What the chip says of itself beyond its identity.

    `part` has the memory sizes of this very chip. `locked` is the refusal that shows it is locked against
    reading and writing, else empty.
    """

    part: Part
    details: tuple[tuple[str, str], ...] = ()
    unique_id: str = ""
    locked: str = ""


WriteBlock = Piece
"""Bytes for one write of the dialect, at an address."""


@frozen
class Fitted:
    """Images as they will be written, after what the dialect must change in them, and what it changed, in words."""

    images: dict[str, Image]
    notes: tuple[str, ...] = ()


@frozen
class Provable:
    """What of a memory can be proven, and what is left out and why, in words. `sample_of`: it is a sample of so many
    bytes; else 0."""

    spans: tuple[Span, ...]
    left_out: str = ""
    sample_of: int = 0


@frozen
class Narrated:
    """A row of a recorded conversation: `count` exchanges from number `first` on were one `command`, with what is
    to be said of it; `place` is the span of addresses it was about, so that rows may be joined."""

    first: int
    count: int
    command: str
    detail: str = ""
    place: tuple[int, int] | None = None


class Dialect(ABC):
    """One bootloader protocol over one link. Methods raise DialectError and LinkLost."""

    name: ClassVar[str]
    title: ClassVar[str]
    document: ClassVar[str]
    frame: ClassVar[Frame]
    traits: ClassVar[Traits]
    answer_s: ClassVar[float] = 0.5
    """The dialect's time-out: an answer comes within it, beyond the time of its characters and of what the chip has
    to do. What is later is late, up to three times as much; what is later still is taken for lost."""

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        self.link = link
        self.settings = settings or {}
        self.retries = 0
        """How often something was asked again because the chip or the line did not go along."""

    def blocks_sent(self) -> str:
        """The blocks of the last `write` as they went over the line, in words; empty where they are the plan's."""
        return ""

    @property
    def disturbed(self) -> int:
        """How often something came late, damaged, or not at all."""
        return self.retries

    @property
    def guards_writes(self) -> bool:
        """Whether what this very chip is sent carries a checksum that it checks."""
        return self.traits.guards_writes

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
    ) -> Answer:
        """A question that may be repeated after silence or noise: it changes nothing, or does the same each time.

        An answer that comes late must never be taken for the next question's. So none is repeated before its answer
        can come no more (`patience_s`), or before `recover`, which is given what was heard instead, has brought the
        line to where only the next answer can come: it finds the start of a command again, by a question whose answer
        is like no other, or by its number. `refusals`: how many times the chip may say no, as it does to a damaged
        question. `resolve` looks whether it was done all the same, and gives its result; None where it was not.

        Raises DialectError.
        """
        for attempt in range(1, tries + 1):
            try:
                return once()
            except (Silence, Unexpected) as error:
                if attempt == tries:
                    raise
                heard = error.heard
            except ChipRefusal:
                if attempt == tries or attempt > refusals:
                    raise
                heard = b""
            self.retries += 1
            recover(heard)
            if resolve is not None and (done := resolve()) is not None:
                return done
        raise AssertionError("every try returns or raises")

    def setting(self, name: str) -> Any:
        """The value of one of the dialect's own settings."""
        return setting_of(type(self), self.settings, name)

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
        """Erase the whole memory. Only for dialects that erase by unit."""
        raise NotImplementedError(f"{self.name} does not erase by unit")

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

    @classmethod
    def narrate(cls, exchanges: Sequence[tuple[bytes, bytes]]) -> list[Narrated]:
        """What a recorded conversation was about: (sent, heard) in order, to rows that each cover some of them."""
        return [Narrated(index, 1, "", show_bytes(sent, 12)) for index, (sent, _) in enumerate(exchanges)]

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
        if not cls.traits.reads:
            return Cost()
        return sum_costs(cls.cost_of_read(memory, place.size) for place in pieces_of(spans, cls.read_block(memory)))


def sum_costs(costs: Iterable[Cost]) -> Cost:
    """All of them, one after the other."""
    return sum(costs, Cost())


def setting_of(dialect: type[Dialect], settings: Mapping[str, Any], name: str) -> Any:
    """A dialect's setting: as given, else its default."""
    if name in settings:
        return settings[name]
    return next(setting.default for setting in dialect.traits.settings if setting.name == name)


def say_last(link: Link, data: bytes) -> None:
    """Send what is not answered, and let it get out before anything else is done to the port."""
    link.write(data)
    link.sleep(link.settings.seconds(len(data) + 1))


def read_exactly(link: Link, size: int, timeout_s: float, waiting_for: str) -> bytes:
    """`size` bytes. Raises Silence with what did come."""
    data = link.read(size, timeout_s)
    if len(data) < size:
        raise Silence(waiting_for, timeout_s, data)
    return data


def read_until(link: Link, deadline: Deadline) -> bytes:
    """Whatever comes until the deadline: asking again before that would only answer noise with noise."""
    heard = b""
    while not deadline.over:
        heard += link.read(256, deadline.left_s)
    return heard


def drain(link: Link, quiet_s: float, longest_s: float = 2.0) -> bytes:
    """Take what comes until nothing comes for `quiet_s`, or `longest_s` is over."""
    heard = link.discard()
    end = link.now() + longest_s
    while link.now() < end:
        more = link.read(256, quiet_s)
        if not more:
            break
        heard += more
    return heard


def refuse_text(waiting_for: str, heard: bytes) -> None:
    """Text among the replies of a dialect that has none is a program's: the chip was reset. Raises Unexpected."""
    if len(heard) >= 12 and readable_share(heard) > 0.85:
        raise Unexpected(waiting_for, heard)
