"""The steps that change the chip: erase and write."""

from __future__ import annotations

from collections.abc import Generator, Iterator

from ..dialects.abilities import summing
from ..dialects.spec import Erasing
from ..events import Event, Noted, Step, StepAdvanced, StepEnded
from ..findings.observations import Progress
from ..plan.layout import narrowed, rooms_of
from ..plan.model import MemoryPlan
from ..quantities import count, show_size
from ..spans import pieces_of
from .chip_state import ChipState
from .fastest_rate import Watch
from .preserve import preserve_neighbours, record_witnesses
from .repair import write_all
from .session import Figures, Meter, Transfer

_FIRST_FEW = 64


def erase_step(transfer: Transfer) -> Iterator[Event]:
    yield from preserve_neighbours(transfer, "erase")
    record_witnesses(transfer)
    plan = transfer.plan
    if transfer.kept and transfer.job.purpose == "erase":
        yield from _erase_by_writing(transfer)
        return
    if not plan.units and not any(memory.whole_erase for memory in plan.memories):
        yield StepEnded("erase", "green", "nothing to erase", 0.0, {"units": 0, "bytes": 0, "seconds": 0.0})
        return
    meter = Meter(transfer.link)
    retries = transfer.dialect.retries
    size = yield from _erase(transfer, meter)
    yield from _say_what_was_repeated(transfer, "erase", retries)
    memory = plan.memories[0].memory
    what = "all that is free" if memory.reserved_top or memory.reserved_bottom else "the whole flash"
    if not plan.memories[0].whole_erase:
        what = count(plan.units, "unit")
    figures: Figures = {"units": plan.units, "bytes": size, "seconds": round(meter.seconds, 4)}
    yield StepEnded("erase", "green", f"{what}, {show_size(size)}, acknowledged", meter.seconds, figures)


def _erase(transfer: Transfer, meter: Meter) -> Generator[Event, None, int]:
    """Erase the plan's units. Returns how many bytes were erased."""
    plan, session = transfer.plan, transfer.session
    done = size = 0
    with session.changing(ChipState.ERASING):
        for memory_plan in plan.memories:
            memory = memory_plan.memory
            if memory_plan.whole_erase:
                transfer.dialect.erase_all(memory)
                size += memory.size - memory.reserved_top - memory.reserved_bottom
                continue
            if not memory_plan.units:
                continue
            for erased in transfer.dialect.erase(memory, memory_plan.units):
                session.acknowledged = done + erased
                yield StepAdvanced("erase", done + erased, plan.units, "units", meter.seconds)
            done += len(memory_plan.units)
            size += sum(unit.size for unit in memory_plan.units)
            if transfer.job.purpose == "erase":  # these bytes must be there all the same
                write_all(transfer.dialect, memory, memory_plan.blocks)
    return size


def _erase_by_writing(transfer: Transfer) -> Iterator[Event]:
    """If more would be erased than was asked for: write blanks, and beside them what was there."""
    plan, meter, done = transfer.plan, Meter(transfer.link), 0
    with transfer.session.changing(ChipState.ERASING):
        for memory_plan in plan.memories:
            for block in transfer.dialect.write(memory_plan.memory, memory_plan.blocks):
                done += len(block.data)
                yield StepAdvanced("erase", done, plan.write_bytes, "bytes", meter.seconds)
    size = sum(len(piece.data) for memory in plan.memories for piece in memory.image.pieces)
    figures: Figures = {"units": 0, "bytes": size, "seconds": round(meter.seconds, 4)}
    said = f"{show_size(size)} written, blank but for what was kept"
    yield StepEnded("erase", "green", said, meter.seconds, figures)


def write_step(transfer: Transfer) -> Iterator[Event]:
    if "erase" not in transfer.job.steps:
        yield from preserve_neighbours(transfer, "write")
    record_witnesses(transfer)
    plan, session = transfer.plan, transfer.session
    meter = Meter(transfer.link)
    total = plan.write_bytes
    done = blocks = 0
    if not total:
        yield StepEnded("write", "green", "nothing to write", 0.0, meter.figures(0, 0))
        return
    spec = transfer.job.dialect.spec
    if (
        spec.erasing is Erasing.INSIDE_WRITE
        and spec.reads
        and not (spec.reads_slowly or spec.shows_sums_only or spec.into_ram)
    ):
        transfer.before = _first_bytes(transfer)
        meter = Meter(transfer.link)
    session.progress = Progress(0, total, plan.memories[0].memory.start)
    transfer.acknowledged.clear()
    watch = Watch(session)
    retries = transfer.dialect.retries
    with session.changing(ChipState.WRITING):
        for memory_plan in plan.memories:
            for block in transfer.dialect.write(memory_plan.memory, memory_plan.blocks):
                done += len(block.data)
                blocks += 1
                transfer.acknowledged.add((memory_plan.memory.name, block.address))
                session.progress = Progress(done, total, block.address)
                yield StepAdvanced("write", done, total, "bytes", meter.seconds)
                if done < total:  # after the last one nothing is left to write at a lower rate
                    watch.see()
    yield from _say_what_was_repeated(transfer, "write", retries)
    unit = "page" if transfer.job.dialect.writes_whole_blocks(plan.memories[0].memory) else "block"
    what = transfer.dialect.blocks_sent() or _blocks(plan.memories, unit)
    yield StepEnded("write", "green", what, meter.seconds, meter.figures(total, blocks))


def _say_what_was_repeated(transfer: Transfer, step: Step, before: int) -> Iterator[Event]:
    """The line has hurt something: what was compared before is not taken for granted any more."""
    repeated = transfer.dialect.retries - before
    if repeated:
        transfer.session.line_hurt = True
        yield Noted(step, f"{count(repeated, 'exchange')} repeated")


def leave_out_written(transfer: Transfer) -> None:
    """Narrow the plan to what the chip has not acknowledged yet. All of it stays where the loader erases everything,
    where bytes of the chip are kept and belong to the plan, or where it is in RAM, which a reset empties."""
    into_ram = transfer.job.dialect.spec.into_ram
    if into_ram or transfer.kept or transfer.job.options.keep or not transfer.acknowledged:
        return
    left, done = {}, transfer.acknowledged
    if all((plan.memory.name, block.address) in done for plan in transfer.plan.memories for block in plan.blocks):
        return  # what the loader does after the last block has failed, and may want all of them
    for plan in transfer.plan.memories:
        name = plan.memory.name
        waiting = [block.span for block in plan.blocks if (name, block.address) not in done]
        rooms = rooms_of(plan, transfer.job.dialect.write_block(plan.memory))
        left[name] = [room for room in rooms if any(room.place.meets(span) for span in waiting)]
    transfer.whole = transfer.whole or transfer.plan
    transfer.plan = narrowed(transfer.whole, transfer.job.dialect, transfer.job.options, left)
    transfer.acknowledged.clear()


def _blocks(memories: tuple[MemoryPlan, ...], unit: str) -> str:
    parts = []
    for plan in memories:
        sizes = {len(block.data) for block in plan.blocks}
        largest = max(sizes, default=0)
        of = f" of {largest}" if len(sizes) == 1 else f" of up to {largest}" if sizes else ""
        where = "" if plan.memory.is_flash else f" to {plan.memory.name}"
        parts.append(f"{count(len(plan.blocks), unit)}{of}{where}")
    return ", ".join(parts)


def _first_bytes(transfer: Transfer) -> bytes:
    """What the first bytes to be checked hold before anything is written, to detect a write without effect."""
    memory_plan = transfer.plan.memories[0]
    block = transfer.dialect.read_block(memory_plan.memory)
    if summing(transfer.dialect) is not None:
        block = min(block, _FIRST_FEW)
    first = next(pieces_of(transfer.proofs_of(memory_plan), block), None)
    return transfer.dialect.read(memory_plan.memory, first.start, first.size) if first else b""
