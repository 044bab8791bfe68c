"""Where nothing guards the size that a chip is told to erase, places behind it are looked at before and after."""

from __future__ import annotations

from ..dialects.base import ErasedUnasked
from ..errors import Finding, VerifyFault
from ..plan import areas, cut_off
from ..quantities import show_address, show_span
from .scene import Scene

_TRY = (
    "upload again; put back what was beside it, if you have it",
    "shorter wires, a lower --baud, and check ground",
)


def look_behind(scene: Scene) -> None:
    """Before anything is erased."""
    part, plan = scene.ground
    if scene.behind is not None or not scene.job.wishes.verify:
        return
    scene.behind = []
    for memory_plan in plan.memories:
        if memory_plan.memory.name == "flash":
            memory, spans = memory_plan.memory, areas(memory_plan, part, scene.job.dialect)
            gaps = cut_off([(spans[0][1], memory.usable_end)], spans) if spans else []
            for address, size in scene.talk.witnesses(memory, gaps):
                scene.behind.append((memory, address, size, scene.talk.shown_of(memory, address, size)))


def refuse_overrun(scene: Scene) -> None:
    """Raises VerifyFault where more was erased than was asked for."""
    for memory, address, size, before in scene.behind or ():
        if before in (scene.talk.shown_of(memory, address, size), scene.talk.shown_of(memory, address, size)):
            continue
        cause = f"more was erased than was asked for: what was at {show_address(address)} has changed"
        seen = (f"{show_span(address, size)} is not what it was before", "the size to erase was damaged on the line")
        raise VerifyFault(Finding("erased-beside", cause, seen, _TRY, "likely"))


def erased_unasked(scene: Scene, error: ErasedUnasked) -> Finding:
    """What the chip began to erase in place of what it was asked. The chip counts as changed from here on."""
    scene.changed, scene.erased_units = scene.changed or "erase", max(1, scene.erased_units)
    cause = "the chip erased what it was not asked to: a command was damaged on the line"
    return Finding("erased-beside", cause, (str(error),), _TRY, "likely")
