"""What is specific to a family of processors, one value per family: how its programs begin, what they say about
themselves, and what cannot be right."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import field
from typing import TYPE_CHECKING, Literal

from ..chips.part import Part
from ..frozen import frozen
from ..image import Image, Piece
from ..image.esp_tables import BootHeader, Partition

if TYPE_CHECKING:
    from .room import Reservation, Side


FamilyName = Literal["cortex-m", "arm7", "avr", "pic18", "pic16", "esp", "esp partitions"]
LONGEST_TABLE = 256
"""The most vectors that a table has."""


@frozen
class Origin:
    """A beginning of a program, or of a table, that is valid for its family.

    `size` is that of the vector table in bytes. `entry` is the byte address it starts at, `stack` the first stack
    pointer; `vectors` how many there are, `unused` how many of them share the target `unused_to`. `base` is where a
    program belongs by its own vectors, if that is not `address`.
    """

    family: FamilyName
    address: int
    size: int = 0
    entry: int | None = None
    stack: int | None = None
    vectors: int = 0
    unused: int = 0
    unused_to: int | None = None
    jump: str = ""
    base: int | None = None
    header: BootHeader | None = None
    partitions: tuple[Partition, ...] = field(default=())


def shared_target(targets: Sequence[int], vectors: int) -> tuple[int, int | None]:
    """How many vectors are unused, and where they go: those that share a target, if there are many."""
    if not targets:
        return 0, None
    to, times = Counter(targets).most_common(1)[0]
    return (times, to) if times > max(3, vectors // 5) else (0, None)


@frozen
class Verdict:
    """`trouble` is why the image cannot run there; empty if it can. `notes` are worth mentioning, `tries` what
    would help."""

    trouble: str = ""
    evidence: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    tries: tuple[str, ...] = ()


@frozen
class Jumps:
    """For families whose programs begin with a jump. `target` gives the byte address that the code at an address
    jumps to, None if it is no jump; `code` makes the jump from an address to a target, in a flash of that many
    bytes."""

    target: Callable[[bytes, int], int | None]
    code: Callable[[int, int, int], bytes]


@frozen
class Family:
    """`core` is its name in part records, `machines` are those in ELF files. `begins_with` names what its programs
    begin with. An instruction word has `word_bytes`, low byte first; `counts_words`: its program counter counts them.

    `origin` finds a program's beginning in a piece; `judge` says whether an image can run on a part. `reserve` plans
    the space for a bootloader of a given size on a side (None: the usual one), `no_room` says why none can be
    planned. `jumps` is None if programs do not begin with one. `partitioned`: a table in the flash divides it.
    """

    core: str
    machines: tuple[str, ...]
    begins_with: str
    word_bytes: int
    counts_words: bool
    origin: Callable[[Piece, Image], Origin | None]
    judge: Callable[[Image, Part], Verdict]
    reserve: Callable[[Part, int, Side | None], Reservation] | None = None
    no_room: str = ""
    jumps: Jumps | None = None
    partitioned: bool = False
