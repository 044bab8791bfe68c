"""A plan made smaller: only those erase units are written whose bytes are not in the chip already."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace

from .chips import EraseUnit
from .dialects.base import Dialect
from .frozen import frozen
from .image.edit import cut_out
from .plan import MemoryPlan, Plan, plan_memory, priced
from .wishes import Wishes

Span = tuple[int, int]
"""Address and size, in bytes."""


@frozen
class Room:
    """What is written or left alone as a whole: one erase unit, or several that one write fills. `spans` are the
    image's bytes in it. `provable`: whether the chip can show all of them."""

    units: tuple[EraseUnit, ...]
    spans: tuple[Span, ...]
    provable: bool

    @property
    def low(self) -> int:
        return self.units[0].address

    @property
    def high(self) -> int:
        """The address behind the last byte."""
        return self.units[-1].end

    @property
    def size_bytes(self) -> int:
        """How many of the image's bytes are in it."""
        return sum(size for _, size in self.spans)


def rooms_of(plan: MemoryPlan, block: int) -> list[Room]:
    """The rooms of what a plan writes, in the order of their addresses; `block` is the dialect's largest write."""
    units: dict[int, list[EraseUnit]] = {}
    spans: dict[int, list[Span]] = {}
    start = plan.memory.start
    for piece in plan.image.pieces:
        for unit in plan.memory.units_touched(piece.address, len(piece.data)):
            key = unit.address if unit.size >= block else start + (unit.address - start) // block * block
            there = units.setdefault(key, [])
            if not there or there[-1] != unit:
                there.append(unit)
            low, high = max(piece.address, unit.address), min(piece.end, unit.end)
            held = spans.setdefault(key, [])
            if held and sum(held[-1]) == low:
                held[-1] = (held[-1][0], high - held[-1][0])
            else:
                held.append((low, high - low))
    shown = _Spans(plan.checks)
    return [
        Room(tuple(units[key]), tuple(spans[key]), all(shown.cover(*span) for span in spans[key]))
        for key in sorted(units)
    ]


class _Spans:
    """Sorted spans that do not overlap, to look into."""

    def __init__(self, spans: Iterable[Span]) -> None:
        self._spans = sorted(spans)
        self._starts = [address for address, _ in self._spans]

    def cover(self, address: int, size: int) -> bool:
        index = bisect_right(self._starts, address) - 1
        return index >= 0 and address + size <= sum(self._spans[index])


def joined(spans: Iterable[Span]) -> list[Span]:
    """Spans in order, those that meet as one."""
    result: list[Span] = []
    for address, size in spans:
        if result and sum(result[-1]) == address:
            result[-1] = (result[-1][0], result[-1][1] + size)
        else:
            result.append((address, size))
    return result


def narrowed(plan: Plan, dialect: type[Dialect], wishes: Wishes, differing: Mapping[str, Sequence[Room]]) -> Plan:
    """The plan for the rooms that differ, by memory name; a memory that is not named stays as planned. What is left
    out is in `compared` of its MemoryPlan."""
    memories = []
    for old in plan.memories:
        rooms = differing.get(old.memory.name)
        all_or_nothing = old.whole_erase or (dialect.traits.erases_in_order and old.memory.name == "flash")
        if rooms is None or (rooms and all_or_nothing):
            memories.append(old)
            continue
        image = old.image
        rooms = _with_neighbours(plan, old, dialect, rooms) if rooms else []
        pieces = [
            piece for low, size in joined((r.low, r.high - r.low) for r in rooms)
            for piece in cut_out(image, low, low + size).pieces
        ]  # fmt: skip
        left = _without(old.checks, rooms)
        if not pieces:
            nothing = replace(old, units=(), blocks=(), checks=(), compared=left, whole_erase=False, sample_of=0)
            memories.append(nothing)
            continue
        smaller = plan_memory(plan.part, old.memory, dialect, replace(image, pieces=tuple(pieces)), wishes)
        memories.append(replace(smaller, image=image, compared=left))
    return priced(plan.part, dialect, memories, wishes, plan.notes)


def _with_neighbours(
    plan: Plan, memory_plan: MemoryPlan, dialect: type[Dialect], rooms: Sequence[Room]
) -> Sequence[Room]:
    """The rooms, and those behind them that are erased along with them."""
    memory = memory_plan.memory
    if memory.name != "flash":
        return rooms
    every = {room.low: room for room in rooms_of(memory_plan, dialect.write_block(memory))}
    chosen = {room.low: room for room in rooms}
    while True:
        runs = [(low, low + size) for low, size in joined((r.low, r.high - r.low) for _, r in sorted(chosen.items()))]
        erased = dialect.erased_by_writing(plan.part, memory, runs)
        more = {
            low: room for low, room in every.items()
            if low not in chosen and any(first < room.high and low < end for first, end in erased)
        }  # fmt: skip
        if not more:
            more = _before_what_is_taken_along(every, chosen, runs, erased)
        if not more:
            return [chosen[low] for low in sorted(chosen)]
        chosen.update(more)


def _before_what_is_taken_along(
    every: Mapping[int, Room], chosen: Mapping[int, Room], runs: Sequence[Span], erased: Sequence[Span]
) -> dict[int, Room]:
    """The image's rooms in front of runs that take along what is not the image's: written with it, they may not."""
    before = {room.high: room for room in every.values()}
    return {
        before[low].low: before[low]
        for (low, high), (_, end) in zip(runs, erased, strict=True)
        if end > high and low in before and before[low].low not in chosen
    }


def _without(checks: Sequence[Span], rooms: Sequence[Room]) -> tuple[Span, ...]:
    """What of the spans lies in none of the rooms."""
    holes = joined((room.low, room.high - room.low) for room in rooms)
    starts = [low for low, _ in holes]
    left: list[Span] = []
    for address, size in checks:
        at, end = address, address + size
        index = max(0, bisect_right(starts, at) - 1)
        while at < end:
            while index < len(holes) and sum(holes[index]) <= at:
                index += 1
            low, high = (holes[index][0], sum(holes[index])) if index < len(holes) else (end, end)
            if low > at:
                left.append((at, min(low, end) - at))
            at = max(at, high) if low < end else end
    return tuple(left)
