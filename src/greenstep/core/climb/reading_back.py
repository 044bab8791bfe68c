"""Read back what was written, block by block, and write again what was damaged on its way."""

from __future__ import annotations

from dataclasses import field

from ..chips import EraseUnit
from ..dialects.results import WriteBlock
from ..dialects.spec import Erasing
from ..findings.observations import Difference
from ..frozen import changing
from ..plan import MemoryPlan
from ..spans import Span, shared
from .proof import expected, reads_equal
from .repairing import erase_and_write, writing_again
from .transfer import Transfer

_PAGES_WRITTEN_AGAIN = 2
_BLOCKS_AFTER_FIRST = 64
"""Blocks to read after the first difference: enough to see a pattern."""


@changing
class Comparison:
    """Reading back, block by block. `missed` are blocks of which more than one byte was missing at its place."""

    expected: bytearray = field(default_factory=bytearray)
    found: bytearray = field(default_factory=bytearray)
    blocks: list[tuple[int, int]] = field(default_factory=list)
    first_wrong: int | None = None
    after_first: int = 0
    reread: int = 0
    rewritten: int = 0
    missed: list[WriteBlock] = field(default_factory=list)
    reads_differ: bool = False

    @property
    def enough(self) -> bool:
        return self.after_first > _BLOCKS_AFTER_FIRST

    def take(self, transfer: Transfer, plan: MemoryPlan, place: Span) -> None:
        """Read a block and compare it."""
        wanted, found = expected(plan, place), _read(transfer, plan, place)
        if self.first_wrong is not None:
            self.after_first += 1
        elif found != wanted:
            found = self._look_again(transfer, plan, place, found)
            if found != wanted:
                self.first_wrong = place.start + _first_difference(wanted, found)
        self.blocks.append((len(self.expected), place.size))
        self.expected += wanted
        self.found += found

    def _look_again(self, transfer: Transfer, plan: MemoryPlan, place: Span, found: bytes) -> bytes:
        """Read again a block that was wrong once; write it again if that may help."""
        wanted, again = expected(plan, place), _read(transfer, plan, place)
        if again == wanted:  # nothing guards these bytes on the line: the second reading is as good as the first
            self.reread += 1
            return again
        self.reads_differ = again != found
        if sum(a != b for a, b in zip(again, wanted, strict=True)) > 1:
            self.missed += [block for block in plan.blocks if block.span.meets(place)]
        if not self.reads_differ and self._write_again(transfer, plan, place):
            return _read(transfer, plan, place)
        unit = transfer.dialect.checksum_unit(plan.memory)
        summed = transfer.dialect.can_checksum() and not (place.start % unit or place.size % unit)
        if summed:  # else what was read is not what is there
            self.reads_differ |= not transfer.dialect.checksum_equals(plan.memory, place.start, again)
        return again

    def _write_again(self, transfer: Transfer, plan: MemoryPlan, place: Span) -> bool:
        """If nothing guards a block on its way to the chip, a second write is worth it, after another erase where
        that is a step of its own. Only a few times: what fails often is no accident."""
        way = transfer.job.dialect.spec.erasing
        if transfer.job.purpose != "upload" or transfer.dialect.guards_writes or way is Erasing.ALL_AT_ONCE:
            return False
        if self.rewritten == _PAGES_WRITTEN_AGAIN:
            return False
        self.rewritten += 1
        room = place
        units: list[EraseUnit] = []
        if way is Erasing.BY_UNIT and plan.memory.is_flash:
            wrong = place.start + _first_difference(expected(plan, place), _read(transfer, plan, place))
            units = plan.memory.units_touched(wrong, 1)
            room = units[0].span
        touched = [block for block in plan.blocks if block.span.meets(room)]
        blocks = [block.part(room) for block in touched] if way is Erasing.BY_UNIT else touched
        with writing_again(transfer.session):
            erase_and_write(transfer.dialect, plan.memory, units, blocks)
        # what was compared before, and is written again now, must still be right
        return reads_equal(transfer, plan, shared(plan.checks, [Span(room.start, place.start)]))

    def difference(self, transfer: Transfer, plan: MemoryPlan, first_wrong: int) -> Difference:
        """What was read, for the findings."""
        return Difference(
            first_wrong,
            bytes(self.expected),
            bytes(self.found),
            plan.memory.erased,
            () if self.enough else tuple(self.blocks),
            transfer.before if plan is transfer.plan.memories[0] else b"",
            self.reads_differ,
            transfer.dialect.guards_writes,
            transfer.job.purpose == "upload",
            transfer.job.empties,
        )


def _read(transfer: Transfer, plan: MemoryPlan, place: Span) -> bytes:
    return transfer.dialect.read(plan.memory, place.start, place.size)


def _first_difference(wanted: bytes, found: bytes) -> int:
    """Where the first byte differs; 0 if none does."""
    return next((at for at, (a, b) in enumerate(zip(wanted, found, strict=True)) if a != b), 0)
