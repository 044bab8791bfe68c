"""What must survive is saved before anything is erased: read, put aside, and written back with the image. That is
what the person wants kept, and what a loader erases though nothing is to be written there."""

from __future__ import annotations

from collections.abc import Generator, Iterator, Sequence
from dataclasses import replace

from ..dialects.errors import ChipRefusal
from ..errors import RefusedFault
from ..events import Event, Noted, Step, StepAdvanced, StepEnded
from ..image import Image, Piece, joined
from ..plan import MemoryPlan, Plan, plan_memory
from ..quantities import count
from ..spans import Span, merged, shared, total
from .meter import Meter
from .regions import read_twice
from .transfer import Transfer

_HOW_READ = "read in two ways and equal"


def keep_step(transfer: Transfer) -> Iterator[Event]:
    """Read what would be erased of the kept spans, and add it to what is written and verified."""
    meter, flash = Meter(transfer.link), transfer.plan.flash
    keeps = [keep.span for keep in transfer.job.wishes.keep]
    asked = ", ".join(str(keep) for keep in keeps)
    spans = [] if flash is None else merged([*flash.beside, *shared(keeps, flash.areas)])
    if flash is None or not spans:
        yield StepEnded("keep", "green", f"{asked}: left alone", meter.seconds, {"bytes": 0})
        return
    yield from _save(transfer, "keep", flash, spans, asked)
    said = f"{', '.join(str(span) for span in spans)}, {count(total(spans), 'byte')} {_HOW_READ}"
    yield StepEnded("keep", "green", f"{said}: written back", meter.seconds, {"bytes": total(spans)})


def save_beside(transfer: Transfer, step: Step) -> Iterator[Event]:
    """Read what would be erased along with the image, and add it to what is written and verified."""
    before: Sequence[Span] = ()
    while (flash := transfer.plan.flash) is not None and flash.beside:
        if flash.beside == before:  # what is read must end what is beside
            raise _cannot(step, f"what is beside the image, {flash.beside[0]}", "reading it does not end there")
        before = flash.beside
        where = ", ".join(str(span) for span in flash.beside[:2]) + (" and more" if len(flash.beside) > 2 else "")
        for event in _save(transfer, step, flash, flash.beside, f"what is beside the image, {where}"):
            if not isinstance(event, StepAdvanced):
                yield event
        yield Noted(step, f"{where} would be erased too: {_HOW_READ}, and written back")


def _save(
    transfer: Transfer, step: Step, flash: MemoryPlan, spans: Sequence[Span], asked: str
) -> Generator[Event, None, None]:
    """Read the spans and add them to the transfer's plan. Raises RefusedFault."""
    job, session = transfer.job, transfer.session
    shown = job.dialect.provable(transfer.part, flash.memory, tuple(spans), {"verify": "whole"})
    if shown.left_out:
        raise _cannot(step, asked, shown.left_out)
    try:
        pieces = yield from read_twice(session, step, flash.memory, spans)
    except ChipRefusal as refusal:
        raise _cannot(step, asked, f"the chip refuses to be read: {refusal.said}") from None
    transfer.kept = joined([*transfer.kept, *pieces])
    if job.put_aside is not None:
        if session.aside is not None:
            session.aside.drop()
        # several boards of one kind may run at once: each is known by its chip's number, else by its port
        whose = f"{job.board or transfer.part.name}-{session.unique_id or job.port}"
        session.aside = job.put_aside(Image("kept", transfer.kept), whose)
        for name in session.aside.earlier:
            yield Noted(
                step, f"an earlier upload did not bring back what is in {name}: restore it, or remove the file"
            )
    transfer.plan = _with_kept(transfer, flash, pieces)


def _cannot(step: Step, asked: str, reason: str) -> RefusedFault:
    if step != "keep":
        return RefusedFault.of(
            "takes-along",
            "what lies beside the image would be erased, and it cannot be read to be written back",
            (asked, reason),
            (
                "build the image without gaps, or fill them: greenstep image convert --fill 0xFF",
                "--erase all, if nothing else counts",
            ),
        )
    return RefusedFault.of(
        "keeps",
        "the upload would destroy a region that is to be kept, and it cannot be read to be written back",
        (f"keep {asked}", reason),
        ("move the kept region to an erase unit of its own, or the image away from it", "take it out of keep"),
    )


def _with_kept(transfer: Transfer, flash: MemoryPlan, kept: Sequence[Piece]) -> Plan:
    """The plan with the kept bytes added to what is written. The erase units stay the same."""
    job, plan = transfer.job, transfer.plan
    wanted = [piece.part(area) for piece in flash.image.pieces for area in flash.areas if piece.span.meets(area)]
    # if erasing takes more along, it is done by writing: blanks and kept bytes in one go
    wishes = replace(job.wishes, blank=False)
    image = replace(flash.image, pieces=joined([*wanted, *kept]))
    smaller = plan_memory(plan.part, flash.memory, job.dialect, image, wishes)
    checks = smaller.checks
    if smaller.sample_of:  # a sample is enough for an image, which can be sent again, but not for what cannot
        apart = [check for check in checks if not any(check.meets(piece.span) for piece in kept)]
        checks = tuple(sorted([*apart, *(piece.span for piece in kept)], key=lambda span: span.start))
    whole = smaller.part_of(replace(flash.image, pieces=joined([*flash.image.pieces, *kept])))
    grown = replace(whole, checks=checks, compared=flash.compared)
    return replace(plan, memories=tuple(grown if memory is flash else memory for memory in plan.memories))
