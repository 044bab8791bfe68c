"""What a plan is, and how it is put in one line."""

from __future__ import annotations

from dataclasses import replace

from ..chips.part import EraseUnit, Memory, Part
from ..dialects.results import WriteBlock
from ..frozen import frozen
from ..image import Image
from ..quantities import count, show_size
from ..spans import Span, total, without


@frozen
class MemoryPlan:
    """The plan for one memory: erase units, or all of it (`whole_erase`), then write blocks.

    `areas` are what is erased or written as a whole by that, in order and disjoint; `beside`, the part of it in erase
    units that hold none of the image. `checks` are the spans that verify can prove; `left_out` says which bytes it
    cannot, and why; `sample_of`, how many bytes they are a sample of, else 0. `fills` are spans that are written
    along with the image, to fill pages and blocks. `compared` are spans of the image that are in the chip already and
    are not written. `keeps_rest`: what was read from a chip goes back, and all else in its erase units stays.
    """

    memory: Memory
    image: Image
    units: tuple[EraseUnit, ...]
    blocks: tuple[WriteBlock, ...]
    checks: tuple[Span, ...]
    fills: tuple[Span, ...] = ()
    areas: tuple[Span, ...] = ()
    beside: tuple[Span, ...] = ()
    whole_erase: bool = False
    left_out: str = ""
    sample_of: int = 0
    compared: tuple[Span, ...] = ()
    keeps_rest: bool = False

    def part_of(self, image: Image) -> MemoryPlan:
        """The same plan, as part of the work for a larger image."""
        return replace(self, image=image, beside=tuple(without(self.beside, self.own_spans(image))))

    def own_spans(self, image: Image) -> list[Span]:
        """What an image may change: its erase units, or its very bytes where the rest of them is kept."""
        pieces = [piece.span for piece in image.pieces]
        return pieces if self.keeps_rest else [unit.span for unit in self.memory.units_of(pieces)]

    @property
    def write_bytes(self) -> int:
        return sum(len(block.data) for block in self.blocks)

    @property
    def check_bytes(self) -> int:
        return total(self.checks)


@frozen
class Plan:
    """What an upload does to a part. `notes` are what a careful person should know about the images."""

    part: Part
    memories: tuple[MemoryPlan, ...]
    notes: tuple[str, ...] = ()

    @property
    def flash(self) -> MemoryPlan | None:
        return next((memory for memory in self.memories if memory.memory.is_flash), None)

    @property
    def units(self) -> int:
        return sum(len(memory.units) for memory in self.memories)

    @property
    def write_bytes(self) -> int:
        return sum(memory.write_bytes for memory in self.memories)


def describe(plan: Plan) -> str:
    """One line: what will be erased and written."""
    parts = []
    for memory in plan.memories:
        if memory.whole_erase:
            parts.append(f"erase all {show_size(memory.memory.size)}")
        elif memory.units:
            parts.append(f"erase {count(len(memory.units), 'unit')}")
        parts.append(f"write {count(len(memory.blocks), 'block')}, {memory.write_bytes:,} bytes")
    return ", ".join(parts)
