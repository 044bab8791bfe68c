"""A smaller plan: only those erase units are written whose bytes are not in the chip already."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from .chips import EraseUnit
from .dialects.dialect import Dialect
from .frozen import frozen
from .image.edit import cut_out
from .plan import MemoryPlan, Plan, plan_memory
from .spans import Covered, Span, merged, total, without
from .wishes import Wishes


@frozen
class Room:
    """What is written or left alone as a whole: one erase unit, or several that one write fills. `spans` are the
    image's bytes in it. `provable`: whether the chip can show all of them."""

    units: tuple[EraseUnit, ...]
    spans: tuple[Span, ...]
    provable: bool

    @property
    def place(self) -> Span:
        return Span(self.units[0].address, self.units[-1].end)

    @property
    def size_bytes(self) -> int:
        """How many of the image's bytes are in it."""
        return total(self.spans)


def rooms_of(plan: MemoryPlan, block: int) -> list[Room]:
    """The rooms that a plan writes, in order of address; `block` is the dialect's largest write."""
    rooms: dict[int, list[EraseUnit]] = {}
    start = plan.memory.start
    pieces = [piece.span for piece in plan.image.pieces]
    for unit in plan.memory.units_of(pieces):
        key = unit.address if unit.size >= block else start + (unit.address - start) // block * block
        rooms.setdefault(key, []).append(unit)
    shown = Covered(plan.checks)
    made, first = [], 0
    for units in rooms.values():
        place = Span(units[0].address, units[-1].end)
        while pieces[first].end <= place.start:
            first += 1
        spans = []
        for piece in pieces[first:]:
            if piece.start >= place.end:
                break
            # a piece may extend over units that are not its room's
            spans += [part for unit in units if (part := piece.shared(unit.span)).size > 0]
        held = tuple(merged(spans))
        made.append(Room(tuple(units), held, all(shown.covers(span) for span in held)))
    return made


def narrowed(plan: Plan, dialect: type[Dialect], wishes: Wishes, differing: Mapping[str, Sequence[Room]]) -> Plan:
    """The plan for the rooms that differ, by memory name; a memory that is not named stays as planned. What is left
    out is in `compared` of its MemoryPlan."""
    memories = []
    for old in plan.memories:
        rooms = differing.get(old.memory.name)
        all_or_nothing = old.whole_erase or (dialect.spec.erases_in_order and old.memory.is_flash)
        if rooms is None or (rooms and all_or_nothing):
            memories.append(old)
            continue
        rooms = _with_neighbours(plan, old, dialect, rooms) if rooms else []
        places = merged(room.place for room in rooms)
        pieces = tuple(piece for place in places for piece in cut_out(old.image, place.start, place.end).pieces)
        left = tuple(without(old.checks, places))
        if not pieces:
            nothing = MemoryPlan(old.memory, old.image, (), (), (), left_out=old.left_out, compared=left)
            memories.append(nothing)
            continue
        smaller = plan_memory(plan.part, old.memory, dialect, replace(old.image, pieces=pieces), wishes)
        memories.append(replace(smaller.part_of(old.image), compared=left))
    return replace(plan, memories=tuple(memories))


def _with_neighbours(
    plan: Plan, memory_plan: MemoryPlan, dialect: type[Dialect], rooms: Sequence[Room]
) -> Sequence[Room]:
    """The rooms, and those after them that are erased along with them."""
    memory = memory_plan.memory
    if not memory.is_flash:
        return rooms
    every = {room.place.start: room for room in rooms_of(memory_plan, dialect.write_block(memory))}
    chosen = {room.place.start: room for room in rooms}
    along = dialect.written_along(plan.part, memory)
    if along is not None:
        chosen.update((start, room) for start, room in every.items() if room.place.meets(along))
    while True:
        runs = merged(room.place for room in chosen.values())
        erased = dialect.erased_by_writing(plan.part, memory, runs)
        more = {
            start: room for start, room in every.items()
            if start not in chosen and any(run.meets(room.place) for run in erased)
        }  # fmt: skip
        if not more:
            more = _before_what_is_taken_along(every, chosen, runs, erased)
        if not more:
            return [chosen[start] for start in sorted(chosen)]
        chosen.update(more)


def _before_what_is_taken_along(
    every: Mapping[int, Room], chosen: Mapping[int, Room], runs: Sequence[Span], erased: Sequence[Span]
) -> dict[int, Room]:
    """The image's rooms in front of runs that are erased along and hold nothing of the image: if these are written,
    so may the rooms be."""
    before = {room.place.end: room for room in every.values()}
    rooms = [
        before[run.start]
        for run, gone in zip(runs, erased, strict=True)
        if gone.end > run.end and run.start in before
    ]
    return {room.place.start: room for room in rooms if room.place.start not in chosen}
