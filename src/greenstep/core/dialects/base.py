"""What every dialect can be asked, and how it says that the line or the chip did not go along.

A dialect is a class over an injected `Link`. It never opens, sleeps on its own clock or prints. What
differs between dialects is stated as data (`Traits`, `Cost`), which plan, climb and findings read.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import ClassVar, Literal

from ..chips import EraseUnit, Memory, Part
from ..link import Deadline, Frame, LineSettings, Link
from ..quantities import show_bytes, show_heard


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


Stage = Literal["command", "address", "data"]


class ChipRefusal(DialectError):
    """The chip said no. `stage` is the part of the command it refused; `answer` its own byte(s)."""

    def __init__(self, command: str, stage: Stage, answer: bytes, address: int | None = None) -> None:
        at = "" if address is None else f" at {address:08X}"
        super().__init__(f"{show_bytes(answer)} after the {stage} of '{command}'{at}")
        self.command = command
        self.stage: Stage = stage
        self.answer = answer
        self.address = address


@dataclass(frozen=True)
class Traits:
    """What a dialect can do and how, for plan, climb and findings.

    `erases`: 'by unit' is a step of its own; 'inside write' happens page by page as pages are written.
    `guards_writes`: whether a write carries a checksum that the chip checks.
    `starts_by`: how the application is best started where both ways are open, 'reset' by the lines or a
    'command' of the bootloader.
    `gives_up`: whether the loader starts the application by itself when it hears nothing it understands.
    `sync_sent`, `sync_answers`: what is sent to ask who is there, and the answers that prove it;
    `other_answers`: what it says to what it does not understand.
    `settles_s`: how long to wait after each reset before asking; a reset for each, then it is given up.
    `ask_wait_s`: how long one asking waits for its answer. `asks`: askings after each reset,
    as many numbers as `settles_s`.
    """

    erases: Literal["by unit", "inside write"]
    guards_writes: bool
    starts_by: Literal["reset", "command"]
    gives_up: bool
    sync_sent: bytes
    sync_answers: tuple[bytes, ...]
    other_answers: tuple[bytes, ...]
    settles_s: tuple[float, ...]
    ask_wait_s: float
    asks: tuple[int, ...]


@dataclass(frozen=True)
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


@dataclass(frozen=True)
class Identity:
    """Who answered: the number that tells the chip, how it was said, and what else the loader told."""

    ident: int
    said: str
    details: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True)
class Examination:
    """What the chip says of itself beyond its identity.

    `part` has the memory sizes of this very chip. `locked` is the refusal that shows it is locked against
    reading and writing, else empty.
    """

    part: Part
    details: tuple[tuple[str, str], ...] = ()
    unique_id: str = ""
    locked: str = ""


@dataclass(frozen=True)
class WriteBlock:
    """Bytes for one write of the dialect, at an address."""

    address: int
    data: bytes


class Dialect(ABC):
    """One bootloader protocol over one link. Methods raise DialectError and LinkLost."""

    name: ClassVar[str]
    title: ClassVar[str]
    document: ClassVar[str]
    frame: ClassVar[Frame]
    traits: ClassVar[Traits]

    def __init__(self, link: Link) -> None:
        self.link = link
        self.retries = 0
        """How often something was asked again because the chip or the line did not go along."""

    @abstractmethod
    def ask(self, wait_s: float) -> str | None:
        """Ask once whether the bootloader is there; its answer in words, or None for silence."""

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

    def can_checksum(self) -> bool:
        """Whether this chip offers to compute a checksum itself (known after `identify`)."""
        return False

    def checksum_equals(self, memory: Memory, address: int, data: bytes) -> bool:
        """Whether the chip's own checksum over that room is that of `data`."""
        raise NotImplementedError(f"{self.name} has no checksum")

    @abstractmethod
    def start(self, address: int) -> str:
        """Start the application (whose vectors are at `address`) by a command; what the chip said to it."""

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
