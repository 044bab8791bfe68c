"""The plan of an upload: from images, the part and its dialect to erase units, write blocks and time.

Everything that would make an upload wrong is refused here, before anything is erased.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import field, replace

from .chips import EraseUnit, Memory, Part
from .dialects.base import Cost, Dialect, WriteBlock
from .errors import Finding, RefusedFault
from .frozen import frozen
from .image import Image
from .image.edit import HIGHEST, cut_out
from .link import LineSettings
from .quantities import count, show_address, show_size, show_span
from .vectors import judge_vectors
from .wishes import Wishes

USUAL_TURNAROUND_S = 0.001
_GAP_WORTH_FILLING = 32  # bytes; a new block costs more line time than so many blank ones


@frozen
class MemoryPlan:
    """What one memory gets. `checks` are the spans (address, size) that verify can prove; `left_out` says of which
    bytes it cannot, and why; `sample_of` of how many bytes they are a sample, else 0. `compared` are spans of the
    image that are in the chip already, and are not written."""

    memory: Memory
    image: Image
    units: tuple[EraseUnit, ...]
    blocks: tuple[WriteBlock, ...]
    checks: tuple[tuple[int, int], ...]
    whole_erase: bool = False
    left_out: str = ""
    sample_of: int = 0
    compared: tuple[tuple[int, int], ...] = ()

    @property
    def write_bytes(self) -> int:
        return sum(len(block.data) for block in self.blocks)

    @property
    def check_bytes(self) -> int:
        return sum(size for _, size in self.checks)


@frozen
class Plan:
    """What an upload will do, and what it will cost on the line."""

    part: Part
    memories: tuple[MemoryPlan, ...]
    erase: Cost
    write: Cost
    verify: Cost
    notes: tuple[str, ...] = field(default=())

    def seconds(self, settings: LineSettings, turnaround_s: float = USUAL_TURNAROUND_S) -> float:
        return (self.erase + self.write + self.verify).seconds(settings, turnaround_s)

    @property
    def units(self) -> int:
        return sum(len(memory.units) for memory in self.memories)

    @property
    def write_bytes(self) -> int:
        return sum(memory.write_bytes for memory in self.memories)


def make_plan(part: Part, dialect: type[Dialect], images: dict[str, Image], wishes: Wishes) -> Plan:
    """The plan for `images`, by memory name. Raises RefusedFault."""
    notes: list[str] = []
    if wishes.as_it_was:
        images, notes = _without_bootloader(part, images)
        _check_any_left(images, notes)
        dialect.check_backup(part, images, wishes.despite)
    elif not wishes.blank:
        fitted = dialect.fit(part, images, wishes.settings, wishes.despite)
        images, notes = fitted.images, [*fitted.notes]
        _check_any_left(images, notes)
    elif "flash" in images:
        blank, told = dialect.fit_blank(part, images["flash"])
        images, notes = {**images, "flash": blank}, [*told]
    notes += check_image(part, images, wishes)
    if wishes.erase_all and dialect.traits.erases == "inside write" and not dialect.traits.erases_alone:
        raise RefusedFault(
            Finding(
                "erases-pages-only",
                "this bootloader cannot erase the whole flash",
                (f"the {dialect.title} erases each page as it writes it, and no other",),
                ("leave out --erase all: what the image touches is erased all the same",),
            )
        )
    plans = []
    for name, image in images.items():
        plans.append(plan_memory(part, part.memory(name), dialect, image, wishes))
        _check_kept(plans[-1], part, dialect, wishes)
    return priced(part, dialect, plans, wishes, notes)


def priced(
    part: Part, dialect: type[Dialect], plans: Sequence[MemoryPlan], wishes: Wishes, notes: Iterable[str]
) -> Plan:
    """The plan of these memories, with what it costs."""
    erase, write, verify = Cost(), Cost(), Cost()
    for plan in plans:
        memory = plan.memory
        if plan.whole_erase:
            erase += Cost(2 + 3, 2, 2, memory.mass_erase_time.typical_s)
        elif plan.units:
            erase += dialect.cost_of_erase(memory, plan.units)
        write += dialect.cost_of_writes(part, memory, plan.blocks)
        if wishes.verify:
            verify += dialect.cost_of_verify(part, memory, plan.checks)
    return Plan(part, tuple(plans), erase, write, verify, tuple(notes))


def check_image(part: Part, images: dict[str, Image], wishes: Wishes) -> list[str]:
    """Whether the images can be for this part: room and vectors. Returns notes; raises RefusedFault."""
    notes: list[str] = []
    for name, image in images.items():
        _check_room(part, memory_named(part, name), image)
        if name == "flash" and not wishes.blank and not wishes.as_it_was:
            notes += _check_vectors(part, image, wishes)
    return notes


def _without_bootloader(part: Part, images: Mapping[str, Image]) -> tuple[dict[str, Image], list[str]]:
    """The images without what lies in the room of a resident bootloader, which is there and does the writing."""
    left, notes = dict(images), []
    for name, image in images.items():
        memory = memory_named(part, name)
        for low, high in ((memory.start, memory.usable_start), (memory.usable_end, memory.end)):
            if high > low and image.touches(low, high - low):
                pieces = (*cut_out(left[name], 0, low).pieces, *cut_out(left[name], high, HIGHEST).pieces)
                left[name] = replace(left[name], pieces=pieces)
                notes.append(f"the bootloader's room {show_span(low, high - low)} is left as it is")
    return left, notes


def _check_any_left(images: Mapping[str, Image], notes: Sequence[str]) -> None:
    """A file may hold nothing but what its dialect leaves out. Raises RefusedFault."""
    for image in images.values():
        if not image.pieces:
            raise RefusedFault(
                Finding(
                    "nothing-to-write",
                    f"{image.name} holds nothing that this bootloader writes",
                    tuple(notes[:4]),
                    ("is it the whole program, with its code?",),
                )
            )


def check_blocks(checks: Iterable[tuple[int, int]], block: int) -> Iterable[tuple[int, int]]:
    """The spans cut into reads of at most `block` bytes."""
    for address, size in checks:
        for offset in range(0, size, block):
            yield address + offset, min(block, size - offset)


def memory_named(part: Part, name: str) -> Memory:
    """The part's memory of that name. Raises RefusedFault."""
    try:
        return part.memory(name)
    except KeyError:
        has = " and ".join(memory.name for memory in part.memories)
        cause = f"the {part.title} has no {name} here; it has {has}"
        raise RefusedFault(
            Finding("no-such-memory", cause, (), ("leave that image out", "is --chip right?"))
        ) from None


def _check_room(part: Part, memory: Memory, image: Image) -> None:
    gap, gap_end = memory.gap[0], sum(memory.gap)
    outside = [
        p for p in image.pieces
        if p.address < memory.start or p.end > memory.end or (p.address < gap_end and gap < p.end)
    ]  # fmt: skip
    if outside:
        piece = outside[0]
        below = memory.start and piece.end <= memory.start
        reaches = piece.address if below else piece.end - 1
        room = show_span(memory.start, memory.size)
        tries = ["is it for a part with more flash, or for another chip?"]
        cause = f"the image does not fit: {image.name} reaches {show_address(reaches)}"
        if below:
            cause = f"the image is not for this place: {image.name} begins at {show_address(reaches)}"
            tries = ["is it the image of another chip?"]
            if image.format == "raw binary":
                tries = ["a raw file has no addresses: give it one: FILE at ADDRESS", *tries]
        raise RefusedFault(
            Finding(
                "does-not-fit",
                cause,
                (
                    f"the {memory.name} of the {part.title} is {room} ({show_size(memory.size)})",
                    *(f"outside is {show_span(p.address, len(p.data))}" for p in outside[:3]),
                ),
                tuple(tries),
            )
        )
    if memory.reserved_bottom and image.lowest < memory.usable_start:
        raise RefusedFault(
            Finding(
                "hits-bootloader",
                f"the image runs into the bootloader below {show_address(memory.usable_start)}",
                (
                    f"it begins at {show_address(image.lowest)}",
                    f"the first {show_size(memory.reserved_bottom)} are the bootloader's",
                ),
                (f"build the program for a start at {show_address(memory.usable_start)}, vectors and all",),
            )
        )
    if memory.reserved_top and image.end > memory.usable_end:
        raise RefusedFault(
            Finding(
                "hits-bootloader",
                f"the image runs into the bootloader at {show_address(memory.usable_end)}",
                (
                    f"it ends at {show_address(image.end - 1)}",
                    f"the top {show_size(memory.reserved_top)} are the bootloader's",
                ),
                (
                    "build without the bootloader merged in, or smaller",
                    "if the bootloader is of another size, say so: --bootloader-bytes",
                ),
            )
        )


def _check_vectors(part: Part, image: Image, wishes: Wishes) -> list[str]:
    verdict = judge_vectors(image, part)
    if verdict.trouble and "vectors" not in wishes.despite:
        raise RefusedFault(
            Finding(
                "vectors",
                f"{image.name} would not run: {verdict.trouble}",
                verdict.evidence,
                (
                    "is it the image for this chip, at the right address?",
                    "if you know better: --despite vectors",
                ),
            )
        )
    return [*verdict.notes, *((f"{verdict.trouble}: written all the same",) if verdict.trouble else ())]


def areas(plan: MemoryPlan, part: Part, dialect: type[Dialect]) -> list[tuple[int, int]]:
    """(address, end) of what is erased or written as a whole, in order and apart: units, pages, or everything."""
    if plan.whole_erase:
        return [(plan.memory.start, plan.memory.end)]
    touched = {(unit.address, unit.end) for unit in plan.units}
    for block in plan.blocks if not plan.units else ():
        touched |= {(u.address, u.end) for u in plan.memory.units_touched(block.address, len(block.data))}
        touched.add((block.address, block.address + len(block.data)))
    apart = merged(touched)
    return merged(dialect.erased_by_writing(part, plan.memory, apart)) if apart else []


def taken_along(plan: MemoryPlan, part: Part, dialect: type[Dialect]) -> list[tuple[int, int]]:
    """(address, end) of what is erased though the image has nothing there: whole erase units, in order and apart."""
    if plan.whole_erase:
        return []
    own = [
        (unit.address, unit.end)
        for piece in plan.image.pieces
        for unit in plan.memory.units_touched(piece.address, len(piece.data))
    ]
    return cut_off(areas(plan, part, dialect), merged(own))


def cut_off(spans: Iterable[tuple[int, int]], others: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
    """What of `spans`, (address, end), lies in none of the `others`, which are in order and apart."""
    left = []
    for low, high in spans:
        for first, end in others:
            if first < high and low < end:
                if low < first:
                    left.append((low, first))
                low = max(low, end)
        if low < high:
            left.append((low, high))
    return left


def merged(spans: Iterable[tuple[int, int]]) -> list[tuple[int, int]]:
    """(address, end) in order, those that meet or overlap as one."""
    apart: list[tuple[int, int]] = []
    for low, high in sorted(spans):
        if apart and low <= apart[-1][1]:
            apart[-1] = (apart[-1][0], max(high, apart[-1][1]))
        else:
            apart.append((low, high))
    return apart


def _check_kept(plan: MemoryPlan, part: Part, dialect: type[Dialect], wishes: Wishes) -> None:
    """No image may lie in room that is to be kept; and what cannot be read cannot be written back."""
    if plan.memory.name != "flash":
        return
    for keep in wishes.keep:
        why = f" ({keep.why})" if keep.why else ""
        kept = f"keep {show_span(keep.address, keep.size)}"
        meets = next((p for p in plan.image.pieces if p.address < keep.end and keep.address < p.end), None)
        if meets is not None:
            raise RefusedFault(
                Finding(
                    "keeps",
                    f"the image lies in room that is to be kept{why}",
                    (kept, f"{plan.image.name} has {show_span(meets.address, len(meets.data))}"),
                    ("build the program around it", "take it out of keep"),
                )
            )
        gone = next(
            (area for area in areas(plan, part, dialect) if area[0] < keep.end and keep.address < area[1]), None
        )
        if gone is not None and not dialect.traits.reads:
            raise RefusedFault(
                Finding(
                    "keeps",
                    f"the upload would destroy room that is to be kept{why}",
                    (
                        kept,
                        f"{show_span(gone[0], gone[1] - gone[0])} would go, and this bootloader shows nothing back",
                    ),
                    (
                        "move the kept room to an erase unit of its own, or the image away from it",
                        "take it out of keep",
                    ),
                )
            )


def plan_memory(part: Part, memory: Memory, dialect: type[Dialect], image: Image, wishes: Wishes) -> MemoryPlan:
    """What one memory gets of an image that fits it."""
    flash, way = memory.name == "flash", dialect.traits.erases
    whole = flash and (wishes.erase_all or way == "all at once")
    by_unit = flash and (way == "by unit" or whole or (wishes.blank and dialect.traits.erases_alone))
    units: list[EraseUnit] = []
    if by_unit and not whole:
        seen: dict[int, EraseUnit] = {}
        for piece in image.pieces:
            seen.update((u.number, u) for u in memory.units_touched(piece.address, len(piece.data)))
        units = sorted(seen.values(), key=lambda unit: unit.number)
    size = dialect.write_block(memory)
    if dialect.writes_whole_blocks(memory):
        blocks = _whole_blocks(memory, image, size)
    else:
        blocks = _trimmed_blocks(memory, image, size)
    if by_unit:
        blank = bytes([memory.erased])
        blocks = [block for block in blocks if block.data.strip(blank)]
    checks = tuple((piece.address, len(piece.data)) for piece in image.pieces)
    provable = dialect.provable(part, memory, checks, wishes.settings)
    return MemoryPlan(
        memory, image, tuple(units), tuple(blocks), provable.spans, whole, provable.left_out, provable.sample_of
    )


def _whole_blocks(memory: Memory, image: Image, size: int) -> list[WriteBlock]:
    """Whole pages that hold any of the image. What the image leaves open of a page is erased with it."""
    pages: dict[int, None] = {}
    for piece in image.pieces:
        first = memory.start + (piece.address - memory.start) // size * size
        pages.update(dict.fromkeys(range(first, piece.end, size)))
    return [WriteBlock(page, image.cut(page, size, memory.erased)) for page in sorted(pages)]


def _trimmed_blocks(memory: Memory, image: Image, size: int) -> list[WriteBlock]:
    """Blocks that start and end on write units and never cross a multiple of `size`."""
    blocks = []
    for low, high in _runs(memory, image):
        at = low
        while at < high:
            stop = min(high, memory.start + ((at - memory.start) // size + 1) * size)
            blocks.append(WriteBlock(at, image.cut(at, stop - at, memory.erased)))
            at = stop
    return blocks


def _runs(memory: Memory, image: Image) -> Sequence[tuple[int, int]]:
    """The pieces widened to write units; those that then meet, or nearly, as one."""
    unit, gap = memory.write_unit, _GAP_WORTH_FILLING if memory.name == "flash" else 0
    runs: list[tuple[int, int]] = []
    for piece in image.pieces:
        low = memory.start + (piece.address - memory.start) // unit * unit
        high = memory.start - (memory.start - piece.end) // unit * unit
        if runs and low <= runs[-1][1] + gap:
            runs[-1] = (runs[-1][0], max(high, runs[-1][1]))
        else:
            runs.append((low, high))
    return runs


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
