"""What must survive is saved before anything is erased: read, put aside, and written back with the image. Where
nothing guards the size that a chip is told to erase, the places after it are looked at before and after."""

from __future__ import annotations

from collections.abc import Generator, Iterator, Sequence
from dataclasses import replace

from ..dialects.abilities import Witnesses
from ..dialects.errors import ChipRefusal, ErasedByRefusal, UnexpectedErase
from ..errors import Finding, RefusedFault, VerifyFault
from ..events import Event, Noted, Step, StepAdvanced, StepEnded
from ..image import Image, Piece, joined
from ..plan.layout import plan_memory
from ..plan.model import MemoryPlan, Plan
from ..quantities import count, show_address
from ..spans import Span, merged, shared, total, without
from .chip_state import ChipState
from .regions import read_twice
from .session import Meter, Session, Transfer, Witness

# Why bytes that nobody mentioned are read, saved and written back
# ----------------------------------------------------------------
# Flash is erased in units, and images end where they end. A unit that holds the last 200 bytes of a program
# often holds the calibration of a sensor in the rest; some loaders erase more than they were told (a whole
# bank, or all of it, at the first write). A person who uploads a program has not agreed to lose that. The
# order is:
#
# 1. Read what would go, in two ways that share as little as possible (`Dialect.confirm_reading`): by the
#    chip's own sum, with other addresses, or at least in blocks of another size. Two equal readings by the
#    same requests are no evidence: a wrong address is wrong twice.
# 2. Put it aside in a file, and have that on the disk, before anything is erased. If the cable is pulled now,
#    the bytes are not lost; the next run names the file. It is removed once they are proven to be back.
# 3. Erase, and write image and saved bytes in one go, since a unit is programmed once.
# 4. Prove the saved bytes whole, even where a sample is enough for the image: an image can be sent again.
#
# If a loader cannot show what it would erase, the upload is refused before anything is done, and says how to
# build the image without the gap.
#
# Witnesses are for loaders where nothing guards the size of an erase: one damaged character turns one page
# into eight. A few places behind the image are looked at before and after. They prove little when they are
# unchanged, which is why they only ever turn an upload red and never green.
_HOW_READ = "read in two ways and equal"


def keep_step(transfer: Transfer) -> Iterator[Event]:
    """Read what would be erased of the kept spans, and add it to what is written and verified."""
    meter, flash = Meter(transfer.link), transfer.plan.flash
    keeps = [keep.span for keep in transfer.job.options.keep]
    asked = ", ".join(str(keep) for keep in keeps)
    spans = [] if flash is None else merged([*flash.beside, *shared(keeps, flash.areas)])
    if flash is None or not spans:
        yield StepEnded("keep", "green", f"{asked}: left alone", meter.seconds, {"bytes": 0})
        return
    yield from _save(transfer, "keep", flash, spans, asked)
    said = f"{', '.join(str(span) for span in spans)}, {count(total(spans), 'byte')} {_HOW_READ}"
    yield StepEnded("keep", "green", f"{said}: written back", meter.seconds, {"bytes": total(spans)})


def preserve_neighbours(transfer: Transfer, step: Step) -> Iterator[Event]:
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
    options = replace(job.options, blank=False)
    image = replace(flash.image, pieces=joined([*wanted, *kept]))
    smaller = plan_memory(plan.part, flash.memory, job.dialect, image, options)
    checks = smaller.checks
    if smaller.sample_of:  # a sample is enough for an image, which can be sent again, but not for what cannot
        apart = [check for check in checks if not any(check.meets(piece.span) for piece in kept)]
        checks = tuple(sorted([*apart, *(piece.span for piece in kept)], key=lambda span: span.start))
    whole = smaller.part_of(replace(flash.image, pieces=joined([*flash.image.pieces, *kept])))
    grown = replace(whole, checks=checks, compared=flash.compared)
    return replace(plan, memories=tuple(grown if memory is flash else memory for memory in plan.memories))


_TRY = (
    "upload again; put back what was beside it, if you have it",
    "shorter wires, a lower --baud, and check ground",
)


def record_witnesses(transfer: Transfer) -> None:
    """Look before anything is erased: also after those units of the image that are left alone, because they are
    written again if they are damaged, and would show nothing then."""
    if transfer.witnesses is not None or not transfer.job.options.verify:
        return
    transfer.witnesses = []
    flash, dialect = transfer.plan.flash, transfer.dialect
    if flash is not None and flash.areas and isinstance(dialect, Witnesses):
        after = without([Span(flash.areas[0].end, flash.memory.usable_end)], flash.areas)
        own = shared(merged(unit.span for unit in flash.memory.units_of(flash.compared)), after)
        gaps = sorted([*own, *without(after, own)], key=lambda gap: gap.start)
        for place in dialect.witnesses(flash.memory, gaps):
            shown = dialect.shown_of(flash.memory, place)
            transfer.witnesses.append(Witness(flash.memory, place, shown))


def refuse_overrun(transfer: Transfer) -> None:
    """Raises VerifyFault if more was erased than was asked for."""
    for witness in transfer.witnesses or ():
        if any(_as_it_was(transfer, witness) for _ in range(2)):
            continue
        cause = f"more was erased than was asked for: what was at {show_address(witness.place.start)} has changed"
        seen = (f"{witness.place} is not what it was before", "the size to erase was damaged on the line")
        raise VerifyFault.of("erased-beside", cause, seen, _TRY, "likely")


def _as_it_was(transfer: Transfer, witness: Witness) -> bool:
    dialect = transfer.dialect
    return isinstance(dialect, Witnesses) and dialect.shown_of(witness.memory, witness.place) == witness.shown


def erased_unasked(session: Session, error: UnexpectedErase) -> Finding:
    """Record that the chip began to erase something it was not asked to. The chip counts as changed from here on."""
    if session.state is ChipState.UNTOUCHED:
        session.move_to(ChipState.ERASING)
    cause = "the chip erased what it was not asked to: a command was damaged on the line"
    return Finding("erased-beside", cause, (str(error),), _TRY, "likely")


def erased_by_refusal(session: Session, error: ErasedByRefusal) -> Finding:
    """Record that a refused password has erased the chip."""
    if session.state is ChipState.UNTOUCHED:
        session.move_to(ChipState.ERASING)
    return Finding(
        "password-erased",
        "the password is not this chip's, and a wrong one erases it: what it held is gone",
        (f"it was refused: {error.said}",),
        ("upload the program again", "the password is what stood at the end of the program that was in the chip"),
        "likely",
    )
