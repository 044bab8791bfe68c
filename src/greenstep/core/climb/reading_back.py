"""Reading back what was written, block by block, and writing once more what was damaged on its way."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import field

from ..chips import EraseUnit
from ..dialects.base import WriteBlock
from ..findings import Difference
from ..frozen import changing
from ..plan import MemoryPlan, check_blocks
from .repairing import erase_and_write, writing_again
from .transfer import Transfer

_PAGES_WRITTEN_AGAIN = 2
_BLOCKS_AFTER_FIRST = 64
"""Blocks read after the first that differs: enough to see a pattern."""


def _touched(plan: MemoryPlan, low: int, high: int) -> list[WriteBlock]:
    """The blocks that reach into low..high."""
    return [block for block in plan.blocks if block.address < high and low < block.address + len(block.data)]


def _cut(block: WriteBlock, low: int, high: int) -> WriteBlock:
    """What of a block lies in an erase unit."""
    first = max(low, block.address)
    return WriteBlock(first, block.data[first - block.address : high - block.address])


@changing
class Comparison:
    """Reading back, block by block."""

    expected: bytearray = field(default_factory=bytearray)
    found: bytearray = field(default_factory=bytearray)
    blocks: list[tuple[int, int]] = field(default_factory=list)
    first_wrong: int | None = None
    after_first: int = 0
    reread: int = 0
    rewritten: int = 0
    missed: list[WriteBlock] = field(default_factory=list)
    """Blocks of which more than a byte was missing at their place."""
    reads_differ: bool = False

    @property
    def enough(self) -> bool:
        return self.after_first > _BLOCKS_AFTER_FIRST

    def take(self, transfer: Transfer, plan: MemoryPlan, address: int, size: int) -> None:
        expected = plan.image.cut(address, size, plan.memory.erased)
        found = transfer.dialect.read(plan.memory, address, size)
        if self.first_wrong is not None:
            self.after_first += 1
        elif found != expected:
            again = transfer.dialect.read(plan.memory, address, size)
            if again == expected:  # nothing guards these bytes on the line: the second reading is as good
                self.reread += 1
                found = again
            else:
                self.reads_differ = again != found
                found = again
                if sum(a != b for a, b in zip(found, expected, strict=True)) > 1:
                    self.missed += _touched(plan, address, address + size)
                if not self.reads_differ and self._write_again(transfer, plan, address, size):
                    found = transfer.dialect.read(plan.memory, address, size)
                elif transfer.dialect.can_checksum() and not size % 4:  # else what was read is not what is there
                    self.reads_differ |= not transfer.dialect.checksum_equals(plan.memory, address, found)
            if found != expected:
                self.first_wrong = address + next(
                    i for i, (a, b) in enumerate(zip(expected, found, strict=True)) if a != b
                )
        self.blocks.append((len(self.expected), size))
        self.expected += expected
        self.found += found

    def _write_again(self, transfer: Transfer, plan: MemoryPlan, address: int, size: int) -> bool:
        """Where nothing guards a block on its way to the chip it is worth a second write, after another erase where
        that is a step of its own; not many, for what fails often is no accident."""
        way = transfer.job.dialect.traits.erases
        if transfer.job.purpose != "upload" or transfer.dialect.guards_writes or way == "all at once":
            return False
        if self.rewritten == _PAGES_WRITTEN_AGAIN:
            return False
        self.rewritten += 1
        low, high = address, address + size
        units: Sequence[EraseUnit] = ()
        if way == "by unit" and plan.memory.name == "flash":
            wrong = self._first_difference(transfer, plan, address, size)
            units = plan.memory.units_touched(wrong, 1)
            low, high = units[0].address, units[-1].end
        touched = _touched(plan, low, high)
        with writing_again(transfer.session):
            erase_and_write(
                transfer.dialect,
                plan.memory,
                units,
                [_cut(b, low, high) for b in touched] if way == "by unit" else touched,
            )
        return low >= address or self._equal(transfer, plan, low, address)

    @staticmethod
    def _first_difference(transfer: Transfer, plan: MemoryPlan, address: int, size: int) -> int:
        expected = plan.image.cut(address, size, plan.memory.erased)
        found = transfer.dialect.read(plan.memory, address, size)
        return address + next((i for i, (a, b) in enumerate(zip(expected, found, strict=True)) if a != b), 0)

    @staticmethod
    def _equal(transfer: Transfer, plan: MemoryPlan, low: int, high: int) -> bool:
        """Whether what was compared before, and written again now, still is as it should be."""
        spans = [(max(low, a), min(high, a + s) - max(low, a)) for a, s in plan.checks if a < high and low < a + s]
        return all(
            transfer.dialect.read(plan.memory, a, s) == plan.image.cut(a, s, plan.memory.erased)
            for a, s in check_blocks(spans, transfer.dialect.read_block(plan.memory))
        )

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
        )
