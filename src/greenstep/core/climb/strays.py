"""Where nothing guards an address on its way to the chip, a block may have gone elsewhere: what verify finds missing
at its place is looked for beside the image before anything is called green."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from ..chips import Memory
from ..dialects.errors import ChipRefusal
from ..dialects.results import WriteBlock
from ..errors import VerifyFault
from ..plan import MemoryPlan
from ..quantities import show_address
from ..spans import without
from .proof import read_all
from .transfer import Transfer


def refuse_strays(transfer: Transfer, plan: MemoryPlan, missed: Sequence[WriteBlock]) -> None:
    """`missed` are blocks of which more than one byte was missing at its place. Raises VerifyFault if one of them is
    found elsewhere, or may be there."""
    if not missed or transfer.dialect.guards_writes or transfer.job.purpose != "upload":
        return
    memory, blank = plan.memory, bytes([plan.memory.erased])
    first = missed[0]
    unseen = next((block for block in missed if not block.data.strip(blank)), None)
    if not memory.is_flash or unseen is not None:  # what the same bytes would look like elsewhere
        lost = unseen or first
        raise _stray(lost, memory, "", f"the {memory.name} beside the image may have changed")
    for other, address, data in _beside(transfer, plan):
        at = next((at for block in missed if (at := data.find(block.data)) >= 0), -1)
        if at >= 0:
            where = f"{show_address(address + at)} of the {other.name}"
            raise _stray(first, memory, where, f"what was at {where} is gone")


def _beside(transfer: Transfer, plan: MemoryPlan) -> Iterator[tuple[Memory, int, bytes]]:
    """(memory, address, bytes) of everything outside the image's erase units, as far as it can be read."""
    flash, dialect = plan.memory, transfer.dialect
    own = flash.units_of(piece.span for piece in plan.image.pieces)
    for gap in without([flash.usable], (unit.span for unit in own)):
        yield flash, gap.start, read_all(dialect, flash, [gap])
    for memory in transfer.part.memories:
        if not memory.is_flash and not dialect.withholds(memory):
            try:
                yield memory, memory.start, read_all(dialect, memory, [memory.span])
            except ChipRefusal:  # a loader that cannot write the EEPROM put nothing there
                continue


def _stray(block: WriteBlock, memory: Memory, where: str, lost: str) -> VerifyFault:
    return VerifyFault.of(
        "written-beside",
        f"an address was damaged on the line: {lost}",
        (
            f"the block for {block.span} of the {memory.name} was not there, though it was acknowledged",
            f"it stands at {where}" if where else "where it went cannot be told",
        ),
        (
            "upload again; put back what was beside it, if you have it",
            "shorter wires, a lower --baud, and check ground",
        ),
        "certain" if where else "likely",
    )
