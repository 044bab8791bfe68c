"""From images to erase units and write blocks, and down to those units alone whose bytes are not in the chip already.
What a plan costs on the line is computed only on demand: that takes longer than the plan itself."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from ..chips.part import EraseUnit, Memory, Part
from ..dialects.abilities import ChecksBackup, ErasesMore, LoaderInFlash, WritesAlong
from ..dialects.dialect import Dialect
from ..dialects.results import WriteBlock
from ..dialects.spec import Cost, Erasing, sum_costs
from ..errors import RefusedFault
from ..frozen import frozen
from ..image import Image
from ..image.edit import HIGHEST, cut_out
from ..link import LineSettings
from ..quantities import show_span
from ..spans import Covered, Span, merged, shared, total, without
from .checks import check_any_left, check_image, check_kept, check_rest, memory_named
from .model import MemoryPlan, Plan
from .write_options import WriteOptions

# Why a plan is made before the first byte is sent
# ------------------------------------------------
# Everything that can be refused is refused here, from the image and the part alone: a block outside the
# flash, a write across the bootloader, vectors of another chip. The plan is also what is promised: the units
# in it are the only ones whose content may change, and the same plan is what verify goes by, so that what is
# proven is what was meant.
#
# Units come before blocks, since erasing is what destroys: blocks may be joined or cut as the loader likes
# them, as long as they stay in the units. What the chip holds already narrows the plan later; it never adds
# to it.
_GAP_WORTH_FILLING = 32
"""Bytes: starting a new block costs more line time than this many blank bytes."""


def make_plan(part: Part, dialect: type[Dialect], images: dict[str, Image], options: WriteOptions) -> Plan:
    """The plan for `images`, by memory name. Raises RefusedFault."""
    notes: list[str] = []
    if options.as_it_was:
        images, notes = _without_bootloader(part, images)
        check_any_left(images, notes)
        if issubclass(dialect, ChecksBackup):
            dialect.check_backup(part, images, options.even_if)
    elif not options.blank:
        images, notes = _fitted(part, dialect, images, options)
        check_any_left(images, notes)
    elif "flash" in images:
        there = images["flash"]  # a region that is only looked at may begin inside of what the loader needs
        blank, told = dialect.fit_blank(part, there) if issubclass(dialect, LoaderInFlash) else (there, ())
        images, notes = {**images, "flash": cut_out(blank, there.lowest, there.end)}, [*told]
    notes += check_image(part, images, options)
    if options.erase_all and dialect.spec.erasing is Erasing.INSIDE_WRITE and not dialect.spec.erases_alone:
        raise RefusedFault.of(
            "erases-pages-only",
            "this bootloader cannot erase the whole flash",
            (f"the {dialect.title} erases each page as it writes it, and no other",),
            ("leave out --erase all: what the image touches is erased anyway",),
        )
    plans = tuple(plan_memory(part, part.memory(name), dialect, image, options) for name, image in images.items())
    for plan in plans:
        check_kept(plan, dialect, options)
        check_rest(plan, dialect)
    return Plan(part, plans, tuple(notes))


def _fitted(
    part: Part, dialect: type[Dialect], images: dict[str, Image], options: WriteOptions
) -> tuple[dict[str, Image], list[str]]:
    """What the dialect makes of the images, and its notes. Raises RefusedFault."""
    _, left = _without_kept_blanks(part, images, options)
    if not left:
        fitted = dialect.fit(part, images, options.settings, options.even_if)
        return fitted.images, [*fitted.notes]
    # judged as one file, which it is; but what is stored only by what is going to be written
    whole = dialect.fit(part, images, options.settings, options.even_if | {"settings"})
    cut, _ = _without_kept_blanks(part, whole.images, options)
    dialect.fit(part, cut, options.settings, options.even_if | {"vectors"})
    return cut, [*left, *(note for note in whole.notes if not note.startswith("stored settings"))]


def _without_kept_blanks(
    part: Part, images: Mapping[str, Image], options: WriteOptions
) -> tuple[dict[str, Image], list[str]]:
    """The flash image without its blank bytes in what is to be kept: a factory image names the whole flash, and means
    nothing by what is blank in it."""
    left, notes, image = dict(images), [], images.get("flash")
    for keep in options.keep if image is not None else ():
        inside = cut_out(left["flash"], keep.span.start, keep.span.end)
        if inside.pieces and not any(piece.data.strip(bytes([part.flash.erased])) for piece in inside.pieces):
            pieces = (
                *cut_out(left["flash"], 0, keep.span.start).pieces,
                *cut_out(left["flash"], keep.span.end, HIGHEST).pieces,
            )
            left["flash"] = replace(left["flash"], pieces=pieces)
            notes.append(f"{keep.span} is kept: the image is blank there")
    return left, notes


def _without_bootloader(part: Part, images: Mapping[str, Image]) -> tuple[dict[str, Image], list[str]]:
    """The images without what lies in a resident bootloader's space: it is there already, and does the writing."""
    left, notes = dict(images), []
    for name, image in images.items():
        memory = memory_named(part, name)
        for low, high in ((memory.start, memory.usable_start), (memory.usable_end, memory.end)):
            if high > low and image.touches(low, high - low):
                pieces = (*cut_out(left[name], 0, low).pieces, *cut_out(left[name], high, HIGHEST).pieces)
                left[name] = replace(left[name], pieces=pieces)
                notes.append(f"the bootloader's space {show_span(low, high - low)} is left as it is")
    return left, notes


def plan_memory(
    part: Part, memory: Memory, dialect: type[Dialect], image: Image, options: WriteOptions
) -> MemoryPlan:
    """The plan for one memory and an image that fits it."""
    flash, way = memory.is_flash, dialect.spec.erasing
    whole = flash and (options.erase_all or way is Erasing.ALL_AT_ONCE)
    by_unit = memory.is_erased and (way is Erasing.BY_UNIT or whole or (options.blank and dialect.spec.erases_alone))
    own = memory.units_of(piece.span for piece in image.pieces)
    units = own if by_unit and not whole else ()
    size = dialect.write_block(memory)
    if dialect.writes_whole_blocks(memory):
        blocks = _whole_blocks(memory, image, size)
    else:
        blocks = _trimmed_blocks(memory, image, size)
    if by_unit:
        blocks = _without_blanks(memory, blocks)
    spans = tuple(piece.span for piece in image.pieces)
    provable = dialect.provable(part, memory, spans, options.settings)
    everything = flash and dialect.spec.erases_everything
    areas = [memory.span] if whole or everything else _areas(part, memory, dialect, units, blocks)
    plan = MemoryPlan(
        memory=memory,
        image=image,
        units=units,
        blocks=tuple(blocks),
        checks=provable.spans,
        fills=_fills(part, memory, dialect, spans, blocks),
        areas=tuple(areas),
        whole_erase=whole,
        left_out=provable.left_out,
        sample_of=provable.sample_of,
        keeps_rest=flash and options.as_it_was and not options.erase_all,
    )
    if plan.keeps_rest:
        return replace(plan, beside=tuple(without(shared(areas, [memory.usable]), plan.own_spans(image))))
    return plan if whole or everything else replace(plan, beside=tuple(without(areas, plan.own_spans(image))))


def _without_blanks(memory: Memory, blocks: Sequence[WriteBlock]) -> list[WriteBlock]:
    """The blocks of those write units that are not blank: a write unit is written as a whole, or not at all."""
    blank, unit = bytes([memory.erased]), memory.write_unit
    held = [block for block in blocks if block.data.strip(blank)]
    used = merged(block.span.aligned(unit, memory.start) for block in held)
    return (
        [block for block in blocks if any(span.meets(block.span) for span in used)]
        if used != [block.span for block in held]
        else held
    )


def _fills(
    part: Part, memory: Memory, dialect: type[Dialect], spans: Sequence[Span], blocks: Sequence[WriteBlock]
) -> tuple[Span, ...]:
    """What is written beyond the image's `spans`, as far as the loader can show it."""
    if not dialect.spec.reads:
        return ()
    sent = merged(dialect.span_written(memory, block) for block in blocks)
    beyond = tuple(without(shared(sent, [memory.span]), spans))
    return dialect.provable(part, memory, beyond, {"verify": "whole"}).spans if beyond else ()


def _areas(
    part: Part, memory: Memory, dialect: type[Dialect], units: Sequence[EraseUnit], blocks: Sequence[WriteBlock]
) -> Sequence[Span]:
    """What is erased or written as a whole: units, pages, and what the loader erases along with them."""
    written = [] if units else [block.span for block in blocks]
    touched = units or memory.units_of(written)
    apart = merged([*(unit.span for unit in touched), *written])
    return merged(_with_what_is_erased_too(part, memory, dialect, apart)) if apart and memory.is_flash else apart


def _with_what_is_erased_too(
    part: Part, memory: Memory, dialect: type[Dialect], spans: Sequence[Span]
) -> Sequence[Span]:
    return dialect.erased_by_writing(part, memory, spans) if issubclass(dialect, ErasesMore) else spans


def _whole_blocks(memory: Memory, image: Image, size: int) -> list[WriteBlock]:
    """Whole pages that hold any of the image. Gaps in a page are erased with it."""
    runs = merged(piece.span.aligned(size, memory.start) for piece in image.pieces)
    return [
        WriteBlock(at, image.cut(at, size, memory.erased)) for run in runs for at in range(run.start, run.end, size)
    ]


def _trimmed_blocks(memory: Memory, image: Image, size: int) -> list[WriteBlock]:
    """Blocks that start and end on write units and never cross a multiple of `size`."""
    gap = _GAP_WORTH_FILLING if memory.is_flash else 0
    runs = merged((piece.span.aligned(memory.write_unit, memory.start) for piece in image.pieces), gap)
    places = (run.shared(block) for run in runs for block in run.aligned(size, memory.start).pieces(size))
    return [WriteBlock(place.start, image.cut(place.start, place.size, memory.erased)) for place in places]


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


def narrowed(
    plan: Plan, dialect: type[Dialect], options: WriteOptions, differing: Mapping[str, Sequence[Room]]
) -> Plan:
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
        smaller = plan_memory(plan.part, old.memory, dialect, replace(old.image, pieces=pieces), options)
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
    along = dialect.written_along(plan.part, memory) if issubclass(dialect, WritesAlong) else None
    if along is not None:
        chosen.update((start, room) for start, room in every.items() if room.place.meets(along))
    while True:
        runs = merged(room.place for room in chosen.values())
        erased = _with_what_is_erased_too(plan.part, memory, dialect, runs)
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


USUAL_TURNAROUND_S = 0.001
_MASS_ERASE = Cost(2 + 3, 2, 2)


@frozen
class PlanCosts:
    """Of the three steps that move data."""

    erase: Cost
    write: Cost
    verify: Cost

    def seconds(self, settings: LineSettings, turnaround_s: float = USUAL_TURNAROUND_S) -> float:
        return (self.erase + self.write + self.verify).seconds(settings, turnaround_s)


def price(plan: Plan, dialect: type[Dialect], verify: bool = True) -> PlanCosts:
    """What the plan costs with this dialect."""
    memories = plan.memories
    return PlanCosts(
        sum_costs(_erase(memory, dialect) for memory in memories),
        sum_costs(dialect.cost_of_writes(plan.part, memory.memory, memory.blocks) for memory in memories),
        sum_costs(dialect.cost_of_verify(plan.part, m.memory, m.checks) for m in memories) if verify else Cost(),
    )


def _erase(plan: MemoryPlan, dialect: type[Dialect]) -> Cost:
    if plan.whole_erase:
        return _MASS_ERASE + Cost(busy_s=plan.memory.mass_erase_time.typical_s)
    return dialect.cost_of_erase(plan.memory, plan.units) if plan.units else Cost()
