"""Whether the chip holds what the image has, by its own checksums or by reading; and writing again what differs after
a transfer during which the line was disturbed."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace

from ..chips.part import EraseUnit, Memory
from ..dialects.abilities import Checksums, summing
from ..dialects.dialect import Dialect
from ..dialects.errors import Silence
from ..dialects.results import WriteBlock
from ..dialects.spec import Erasing
from ..events import Event, Noted
from ..link import ResetBy
from ..plan.layout import Room, narrowed, rooms_of
from ..plan.model import MemoryPlan
from ..quantities import count
from ..spans import Span, pieces_of, shared
from .chip_state import ChipState
from .resume import resume
from .session import Session, Transfer


def sums_equal(transfer: Transfer, plan: MemoryPlan, spans: Iterable[Span]) -> bool:
    """Compare checksums that the chip can compute at once, which may cover more than the span where the image is
    blank. If they differ, the bytes of the image itself may still be equal."""
    sums, memory = transfer.dialect, plan.memory
    assert isinstance(sums, Checksums), "else the chip is read"
    unit = sums.checksum_unit(memory)
    summed = (span.aligned(unit, memory.start) for span in spans)
    return all(sums.checksum_equals(memory, span.start, expected(plan, span)) for span in summed)


def expected(plan: MemoryPlan, span: Span) -> bytes:
    """What the image has there; blank where it has nothing."""
    return plan.image.cut(span.start, span.size, plan.memory.erased)


def read_all(dialect: Dialect, memory: Memory, spans: Iterable[Span]) -> bytes:
    """The bytes of the spans, in order, in readings of the dialect's size."""
    places = pieces_of(spans, dialect.read_block(memory))
    return b"".join(dialect.read(memory, place.start, place.size) for place in places)


def reads_equal(transfer: Transfer, plan: MemoryPlan, spans: Iterable[Span]) -> bool:
    """Whether the chip shows the image's bytes; it is read up to the first difference."""
    places = pieces_of(spans, transfer.dialect.read_block(plan.memory))
    return all(
        transfer.dialect.read(plan.memory, place.start, place.size) == expected(plan, place) for place in places
    )


@contextmanager
def writing_again(session: Session) -> Iterator[None]:
    """A context for writing once more what was written already."""
    session.progress = None
    with session.changing(ChipState.WRITING):
        yield
    session.move_to(ChipState.WRITTEN)


def write_all(dialect: Dialect, memory: Memory, blocks: Sequence[WriteBlock]) -> None:
    for _ in dialect.write(memory, blocks):
        pass


def erase_and_write(
    dialect: Dialect, memory: Memory, units: Sequence[EraseUnit], blocks: Sequence[WriteBlock]
) -> None:
    """`units` is empty if erasing is no step of its own."""
    if units:
        for _ in dialect.erase(memory, units):
            pass
    write_all(dialect, memory, blocks)


def _write_planned(dialect: Dialect, plan: MemoryPlan) -> None:
    if plan.whole_erase:
        dialect.erase_all(plan.memory)
    erase_and_write(dialect, plan.memory, () if plan.whole_erase else plan.units, plan.blocks)


def write_differing(transfer: Transfer, memory_plan: MemoryPlan) -> Iterator[Event]:
    """Write the erase units whose bytes differ from the image's, and no others."""
    rooms = rooms_of(memory_plan, transfer.job.dialect.write_block(memory_plan.memory))
    wrong = [room for room in rooms if not _holds(transfer, memory_plan, room)]
    if not wrong:  # the damage was on the way to us
        return
    name = memory_plan.memory.name
    whole = replace(transfer.plan, memories=(memory_plan,))
    dialect = transfer.job.dialect
    smaller = narrowed(whole, dialect, transfer.job.options, {name: wrong}).memories[0]
    if name == "flash" and smaller.beside:
        smaller = memory_plan
    if name == "flash" and dialect.spec.erases_in_order:
        if not resume(transfer.session):
            raise Silence("answer after a reset", 0.0)
        smaller = next(plan for plan in transfer.plan.memories if plan.memory.name == name)
    number = len(rooms) if smaller.whole_erase else len(wrong)
    differ = "differs" if number == 1 else "differ"
    yield Noted("verify", f"{count(number, 'unit')} {differ}, and the line had hurt something: written once more")
    with writing_again(transfer.session):
        _write_planned(transfer.dialect, smaller)


def can_write_again(transfer: Transfer) -> bool:
    """Whether what differs can be written once more: a loader that erases in order must be reset first."""
    return not transfer.job.dialect.spec.erases_in_order or transfer.session.reset_by is ResetBy.LINES


def _holds(transfer: Transfer, plan: MemoryPlan, room: Room) -> bool:
    """Whether the chip shows the image's bytes in a span, as far as it can show them."""
    shown = shared(transfer.proofs_of(plan), [room.place])
    return (reads_equal if summing(transfer.dialect) is None else sums_equal)(transfer, plan, shown)


def worth_all_again(transfer: Transfer) -> bool:
    """If nothing guards a block on its way, and only everything can be erased, writing it all a second time is worth
    it."""
    spec = transfer.job.dialect.spec
    return (
        transfer.job.purpose == "upload"
        and spec.erasing is Erasing.ALL_AT_ONCE
        and not transfer.dialect.guards_writes
    )


def write_all_again(transfer: Transfer) -> None:
    """Write the whole plan; anything that is erased all at once, and nothing else."""
    with writing_again(transfer.session):
        for plan in transfer.plan.memories:
            _write_planned(transfer.dialect, replace(plan, units=()))
