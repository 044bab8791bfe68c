"""Where nothing guards the size that a chip is told to erase: places after it are looked at before and after."""

from __future__ import annotations

from ..dialects.errors import ErasedByRefusal, ErasedUnasked
from ..errors import Finding, VerifyFault
from ..quantities import show_address
from ..spans import Span, merged, shared, without
from .chip_state import ChipState
from .session import Session
from .transfer import Transfer, Witness

_TRY = (
    "upload again; put back what was beside it, if you have it",
    "shorter wires, a lower --baud, and check ground",
)


def look_behind(transfer: Transfer) -> None:
    """Look before anything is erased: also after those units of the image that are left alone, because they are
    written again if they are damaged, and would show nothing then."""
    if transfer.witnesses is not None or not transfer.job.wishes.verify:
        return
    transfer.witnesses = []
    flash = transfer.plan.flash
    if flash is not None and flash.areas:
        after = without([Span(flash.areas[0].end, flash.memory.usable_end)], flash.areas)
        own = shared(merged(unit.span for unit in flash.memory.units_of(flash.compared)), after)
        gaps = sorted([*own, *without(after, own)], key=lambda gap: gap.start)
        for place in transfer.dialect.witnesses(flash.memory, gaps):
            shown = transfer.dialect.shown_of(flash.memory, place)
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
    return transfer.dialect.shown_of(witness.memory, witness.place) == witness.shown


def erased_unasked(session: Session, error: ErasedUnasked) -> Finding:
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
