"""The beginning of a program in an image, and what it says about itself."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import field
from typing import Literal

from ..frozen import frozen
from ..image.boot_header import BootHeader
from ..image.partitions import Partition

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
