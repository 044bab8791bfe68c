"""What differs after a transfer that the line had hurt, written once more."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from ..dialects.base import Silence
from ..events import Event, Noted
from ..narrow import Room, narrowed, rooms_of
from ..plan import MemoryPlan, check_blocks, taken_along
from ..quantities import count
from .proof import sums_equal
from .resuming import resume
from .scene import Scene


def write_differing(scene: Scene, memory_plan: MemoryPlan) -> Iterator[Event]:
    """Write the erase units of which the chip does not show the image's bytes, and no others."""
    rooms = rooms_of(memory_plan, scene.job.dialect.write_block(memory_plan.memory))
    wrong = [room for room in rooms if not _holds(scene, memory_plan, room)]
    name = memory_plan.memory.name
    whole = replace(scene.ground[1], memories=(memory_plan,))
    part, dialect = scene.ground[0], scene.job.dialect
    smaller = narrowed(whole, dialect, scene.job.wishes, {name: wrong}).memories[0]
    if name == "flash" and taken_along(smaller, part, dialect):
        smaller = memory_plan
    if name == "flash" and dialect.traits.erases_in_order:
        if not resume(scene):
            raise Silence("an answer after a reset", 0.0)
        smaller = next(plan for plan in scene.ground[1].memories if plan.memory.name == name)
    number = len(rooms) if smaller.whole_erase else len(wrong)
    differ = "differs" if number == 1 else "differ"
    yield Noted("verify", f"{count(number, 'unit')} {differ}, and the line had hurt something: written once more")
    if smaller.whole_erase:
        scene.talk.erase_all(smaller.memory)
    elif smaller.units:
        for _ in scene.talk.erase(smaller.memory, smaller.units):
            pass
    for _ in scene.talk.write(smaller.memory, smaller.blocks):
        pass


def can_write_again(scene: Scene) -> bool:
    """Whether what differs can be written once more: a loader that erases in order must be reset for it."""
    return not scene.job.dialect.traits.erases_in_order or scene.lines == "moved"


def _holds(scene: Scene, plan: MemoryPlan, room: Room) -> bool:
    """Whether the chip shows the image's bytes in a room, as far as it can show them."""
    shown = _within(plan.checks, room.low, room.high)
    if scene.talk.can_checksum():
        return sums_equal(scene, plan, shown)
    block = scene.talk.read_block(plan.memory)
    return all(
        scene.talk.read(plan.memory, address, size) == plan.image.cut(address, size, plan.memory.erased)
        for address, size in check_blocks(shown, block)
    )


def _within(spans: tuple[tuple[int, int], ...], low: int, high: int) -> list[tuple[int, int]]:
    """What of the spans (address, size) lies in a room."""
    return [(max(low, a), min(high, a + s) - max(low, a)) for a, s in spans if a < high and low < a + s]


def worth_all_again(scene: Scene) -> bool:
    """Where nothing guards a block on its way, and only everything can be erased, all of it is worth a second
    time."""
    traits = scene.job.dialect.traits
    return scene.job.purpose == "upload" and traits.erases == "all at once" and not scene.talk.guards_writes


def write_all_again(scene: Scene) -> None:
    for plan in scene.ground[1].memories:
        if plan.whole_erase:
            scene.talk.erase_all(plan.memory)
        for _ in scene.talk.write(plan.memory, plan.blocks):
            pass
