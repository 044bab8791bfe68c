"""What is specific to a family of processors, one value per family: how its programs begin, what cannot be right in
one, where a resident bootloader finds space beside them."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from ..chips import Part
from ..frozen import frozen
from ..image import Image, Piece
from .origin import Origin

if TYPE_CHECKING:
    from .room import Reservation, Side


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
