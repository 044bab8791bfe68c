"""What must survive is saved before anything is erased: read, put aside, and written back with the image. That is
what the person wants kept, and what a loader erases though nothing is to be written there."""

from __future__ import annotations

from collections.abc import Generator, Iterator, Sequence
from dataclasses import replace

from ..dialects.base import ChipRefusal
from ..errors import Finding, RefusedFault
from ..events import Event, Noted, Step, StepAdvanced, StepEnded
from ..image import Image, Piece
from ..narrow import Span
from ..plan import MemoryPlan, Plan, areas, merged, plan_memory, priced, taken_along
from ..quantities import count, show_span
from .regions import read_twice
from .transfer import Transfer

_HOW_READ = "read in two ways and equal"


def keep_step(transfer: Transfer) -> Iterator[Event]:
    """Reads what of the kept room would be erased, and adds it to what is written and verified."""
    plan = transfer.plan
    began = transfer.link.now()
    flash = _flash_of(plan)
    spans = [] if flash is None else _endangered(transfer, flash)
    asked = ", ".join(show_span(keep.address, keep.size) for keep in transfer.job.wishes.keep)
    if flash is None or not spans:
        yield StepEnded("keep", "green", f"{asked}: left alone", transfer.link.now() - began, {"bytes": 0})
        return
    size = yield from _save(transfer, "keep", flash, spans, asked)
    said = f"{', '.join(show_span(*span) for span in spans)}, {count(size, 'byte')} {_HOW_READ}"
    yield StepEnded("keep", "green", f"{said}: written back", transfer.link.now() - began, {"bytes": size})


def save_beside(transfer: Transfer, step: Step) -> Iterator[Event]:
    """What would be erased along with the image is read, and becomes part of what is written and verified."""
    flash = _flash_of(transfer.plan)
    while flash is not None and (beside := taken_along(flash, transfer.part, transfer.job.dialect)):
        spans = [(low, high - low) for low, high in beside]
        where = ", ".join(show_span(*span) for span in spans[:2]) + (" and more" if len(spans) > 2 else "")
        for event in _save(transfer, step, flash, spans, f"what is beside the image, {where}"):
            if not isinstance(event, StepAdvanced):
                yield event
        yield Noted(step, f"{where} would be erased too: {_HOW_READ}, and written back")
        flash = _flash_of(transfer.plan)


def _flash_of(plan: Plan) -> MemoryPlan | None:
    return next((memory for memory in plan.memories if memory.memory.name == "flash"), None)


def _save(
    transfer: Transfer, step: Step, flash: MemoryPlan, spans: Sequence[Span], asked: str
) -> Generator[Event, None, int]:
    """Reads the spans and adds them to the transfer's plan. How many bytes. Raises RefusedFault."""
    part, plan = transfer.part, transfer.plan
    shown = transfer.job.dialect.provable(part, flash.memory, tuple(spans), {"verify": "whole"})
    if shown.left_out:
        raise _cannot(step, asked, shown.left_out)
    try:
        data = yield from read_twice(transfer.session, step, flash.memory, spans)
    except ChipRefusal as refusal:
        raise _cannot(step, asked, f"the chip refuses to be read: {refusal.said}") from None
    pieces, at = [], 0
    for address, size in spans:
        pieces.append(Piece(address, data[at : at + size]))
        at += size
    transfer.kept = _merged([*transfer.kept, *pieces])
    if transfer.job.put_aside is not None:
        if transfer.session.aside is not None:
            transfer.session.aside.drop()
        # boards of one kind may be served at once: each is known by its chip's number, else by its port
        whose = f"{transfer.job.board or part.name}-{transfer.session.unique_id or transfer.job.port}"
        transfer.session.aside = transfer.job.put_aside(Image("kept", transfer.kept), whose)
        for name in transfer.session.aside.earlier:
            yield Noted(
                step, f"an earlier upload did not bring back what is in {name}: restore it, or remove the file"
            )
    transfer.plan = _with_kept(transfer, plan, flash, pieces)
    return len(data)


def _endangered(transfer: Transfer, plan: MemoryPlan) -> list[Span]:
    """What of the kept room lies where something is going to be erased, and what is erased beside the image."""
    spans = [(low, high - low) for low, high in taken_along(plan, transfer.part, transfer.job.dialect)]
    for keep in sorted(transfer.job.wishes.keep, key=lambda keep: keep.address):
        for low, high in areas(plan, transfer.part, transfer.job.dialect):
            first, end = max(keep.address, low), min(keep.end, high)
            if first < end:
                spans.append((first, end - first))
    return [(low, high - low) for low, high in merged((low, low + size) for low, size in spans)]


def _cannot(step: Step, asked: str, reason: str) -> RefusedFault:
    if step != "keep":
        return RefusedFault(
            Finding(
                "takes-along",
                "what lies beside the image would be erased, and it cannot be read to be written back",
                (asked, reason),
                (
                    "build the image without gaps, or fill them: greenstep image fill",
                    "--erase all, if nothing else counts",
                ),
            )
        )
    return RefusedFault(
        Finding(
            "keeps",
            "the upload would destroy room that is to be kept, and it cannot be read to be written back",
            (f"keep {asked}", reason),
            ("move the kept room to an erase unit of its own, or the image away from it", "take it out of keep"),
        )
    )


def _with_kept(transfer: Transfer, plan: Plan, flash: MemoryPlan, kept: Sequence[Piece]) -> Plan:
    """The plan with the kept bytes among what is written. The erase units stay the same."""
    wanted = [
        Piece(first, piece.data[first - piece.address : end - piece.address])
        for piece in flash.image.pieces
        for low, high in areas(flash, plan.part, transfer.job.dialect)
        if (first := max(piece.address, low)) < (end := min(piece.end, high))
    ]
    pieces = _merged([*wanted, *kept])
    job = transfer.job
    # where erasing takes something along it is done by writing, blanks and what is kept in one go
    wishes = replace(job.wishes, blank=False)
    smaller = plan_memory(plan.part, flash.memory, job.dialect, replace(flash.image, pieces=pieces), wishes)
    whole = replace(flash.image, pieces=_merged([*flash.image.pieces, *kept]))
    checks = smaller.checks
    if smaller.sample_of:  # a sample is enough for an image, which can be had again, and not for what cannot
        apart = [(a, s) for a, s in checks if all(a + s <= p.address or p.end <= a for p in kept)]
        checks = tuple(sorted([*apart, *((piece.address, len(piece.data)) for piece in kept)]))
    grown = replace(smaller, image=whole, checks=checks, compared=flash.compared)
    memories = [grown if memory is flash else memory for memory in plan.memories]
    return priced(plan.part, job.dialect, memories, job.wishes, plan.notes)


def _merged(pieces: Sequence[Piece]) -> tuple[Piece, ...]:
    """In order of their addresses, those that meet as one. None of them overlap."""
    result: list[Piece] = []
    for piece in sorted(pieces, key=lambda piece: piece.address):
        if result and result[-1].end == piece.address:
            result[-1] = Piece(result[-1].address, result[-1].data + piece.data)
        else:
            result.append(piece)
    return tuple(result)
