"""What a dialect can do and how, as data for plan, run, findings, search and help: its commands, by the numbers and
names in its document, and what an exchange costs."""

from __future__ import annotations

from collections.abc import Iterable
from enum import Enum, IntEnum
from typing import TYPE_CHECKING, Any, Literal, Self

from ..frozen import frozen

if TYPE_CHECKING:
    from ..link import LineSettings
    from ..plan.write_options import TalkLine


@frozen
class Cost:
    """What an exchange costs: characters each way, turnarounds that must be waited for, and time the chip is busy."""

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


def sum_costs(costs: Iterable[Cost]) -> Cost:
    """All of them, one after the other."""
    return sum(costs, Cost())


@frozen
class CostRow:
    """What a request costs beside its data: characters `sent` and `heard`, how often the line `turns`, seconds that
    the chip computes for each byte, and how many erase `units` it takes at once."""

    sent: int = 0
    heard: int = 0
    turns: int = 1
    byte_s: float = 0.0
    units: int = 1

    def of(self, sent: int = 0, heard: int = 0, busy_s: float = 0.0) -> Cost:
        """With so much data each way."""
        return Cost(self.sent + sent, self.heard + heard, self.turns, busy_s)


@frozen
class Costs:
    """The largest write and read, in bytes, and what the requests cost; `prove` is a sum over a span, None if verify
    reads. What is no row is a method of the dialect (`write_block`, `cost_of_write` ...)."""

    block: int = 0
    read_block: int = 0
    write: CostRow = CostRow()
    read: CostRow | None = None
    erase: CostRow | None = None
    prove: CostRow | None = None


class ProtocolCommand(IntEnum):
    """`NAME = number, "its name in words", "the layout of its data"`. A dialect derives its own class, and says where
    in the document they stand.

    A layout is what a recording shows of a command: fields with their sizes in bytes, as far as they are of
    interest. `address:4` is where the data go to, here or in later frames; `at:4` another address; `words:2` an
    address in words of 16 bits; `end:4` the last address; `size:2` a number of bytes; `data` is what is moved;
    `bytes` are data without an address, `hex` is anything, and `-:3` is left out. Any other name is shown with its
    value, behind it if it is a plural."""

    words: str
    layout: str

    def __new__(cls, number: int, words: str, layout: str = "") -> Self:
        command = int.__new__(cls, number)
        command._value_ = number
        command.words, command.layout = words, layout
        return command

    @classmethod
    def known(cls, number: int) -> bool:
        """Whether the document has a command with that number."""
        return number in cls._value2member_map_

    @classmethod
    def of(cls, number: int) -> Self:
        """The command with that number. Raises KeyError."""
        command: Any = cls._value2member_map_[number]
        return command  # type: ignore[no-any-return]


class Erasing(Enum):
    """When flash is erased: unit by unit, as a step of its own; page by page, as each is written; or all of it at
    once, as a step of its own that knows no units."""

    BY_UNIT = "by unit"
    INSIDE_WRITE = "inside write"
    ALL_AT_ONCE = "all at once"

    @property
    def is_a_step(self) -> bool:
        return self is not Erasing.INSIDE_WRITE


class Reading(Enum):
    """Whether the chip can be read back: not at all, so that block-by-block acknowledgement is all the evidence; so
    slowly that only what its own checksums show to differ is worth reading; or well."""

    NONE = "none"
    SLOW = "slow"
    GOOD = "good"


class Starting(Enum):
    """How the application is best started if both ways are open."""

    RESET = "reset"
    COMMAND = "command"


@frozen
class Attempt:
    """A reset, a pause in seconds, and then so many questions."""

    settle_s: float
    asks: int


@frozen
class Asking:
    """How the bootloader is asked whether it is there, and recognised by its answer."""

    sent: bytes
    """What is sent; empty if the loader calls by itself and is only listened to."""
    attempts: tuple[Attempt, ...]
    """One reset each; after the last, it counts as absent."""
    wait_s: float
    """How long one question waits for its answer."""
    order: int
    """When a search that does not know the dialect asks it, lowest first: listening harms nothing; a loader that
    measures the rate must hear its own byte before any other's; short questions come before long ones."""
    answers: tuple[bytes, ...] = ()
    """The answers that prove it."""
    other_answers: tuple[bytes, ...] = ()
    """What it answers to anything it does not understand."""
    sounds: tuple[bytes, ...] = ()
    """Regular expressions over bytes, for everything it sends besides these answers."""
    measures_rate: bool = False
    """Whether the loader measures the rate from the first byte it hears, which must be its own."""
    at_baud: int = 0
    """The one rate at which it can be asked, before it goes to another; 0 if it takes any."""
    other_bauds: tuple[int, ...] = ()
    """Rates that its loaders are built for besides the parts' usual one."""
    usb_vendor_id: str = ""
    """The USB vendor id of its chips' maker: bridges on its boards have it."""
    once: bool = False
    """Whether the loader takes one question after a reset, and the next one for something else."""
    entering: str = ""
    """Moves into the bootloader, where reset and boot pin are on wires and those of the circuit do not suffice."""
    enters_on_break: bool = False
    """Whether the loader stays active if its RX is held low (a break) while reset is released."""


@frozen
class Setting:
    """A value that only one dialect has: `set = { name = … }` of a board, `--set name=…`.

    `kind` is its type; a 'talk' is a list of turns as in `talk`, an 'image' is a file (`--set name=@FILE`). `choices`
    are all words allowed, if not empty.
    """

    name: str
    kind: Literal["number", "text", "talk", "image"]
    default: int | str | tuple[TalkLine, ...]
    help: str
    choices: tuple[str, ...] = ()


@frozen
class Spec:
    """Everything that the rest of the program needs to know about a dialect."""

    asking: Asking
    erasing: Erasing
    starting: Starting
    guards_writes: bool
    """Whether a write carries a checksum that the chip checks."""
    gives_up: bool
    """Whether the loader starts the application by itself if it hears nothing that it understands."""
    called_by: str = ""
    """What leads to the loader once a program runs, where a reset alone may not: a remedy, in words."""
    costs: Costs = Costs()
    reading: Reading = Reading.GOOD
    erases_alone: bool = False
    """Whether it can erase without writing."""
    erases_in_order: bool = False
    """Whether a write may erase another page than the one it names: one for each write since the reset, from the
    start of the memory on. Then everything is written in order, in one go, starting from a reset."""
    erases_everything: bool = False
    """Whether each upload erases all of the memory first, whatever the image holds, and begins at its start."""
    tells_chip: bool = True
    """Whether the loader reports which chip it is in."""
    start_answers: bool = True
    """Whether what `start` returns is the loader's own answer that it jumps to the program, and so evidence. An
    acknowledged reset is none."""
    rom_speaks: bool = False
    """Whether the chip's ROM prints at each reset how it was booted."""
    rates: tuple[int, ...] = ()
    """The rates that its loader can be told; empty if it measures them, or has no fixed list."""
    is_told_rate: bool = False
    """Whether it is told to go to another rate from whichever it was asked at."""
    erases_unguarded: bool = False
    """Whether a damaged command may erase more or elsewhere, unseen by the chip. Then a rate that was found on
    another day is proven again, more briefly, before anything is erased at it."""
    shows_sums_only: bool = False
    """Whether it shows no byte of a memory, but the sum of a whole image."""
    into_ram: bool = False
    """Whether it loads programs into RAM, where they are until the next reset."""
    speaks_text: bool = False
    """Whether its answers are text, in capitals and digits."""
    settings: tuple[Setting, ...] = ()
    """The values that only this dialect has."""

    @property
    def reads(self) -> bool:
        return self.reading is not Reading.NONE

    @property
    def reads_slowly(self) -> bool:
        return self.reading is Reading.SLOW
