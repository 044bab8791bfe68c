"""Erase units that acknowledge everything and stay as they were: reported as protected, not as differences."""

from __future__ import annotations

from ..chips import EraseUnit
from ..errors import VerifyFault
from ..plan import MemoryPlan
from ..quantities import count, show_bytes
from ..spans import Span
from .proof import read_all
from .transfer import Transfer

_SHOWN, _LOOKED_AT = 4, 4096


def refuse_protected(transfer: Transfer, plan: MemoryPlan) -> None:
    """After a verify found differences: check for write-protected units. Raises VerifyFault that names them."""
    if not transfer.job.dialect.spec.lifts_write_protection or not plan.memory.is_flash:
        return
    found = [unit for unit in _written(plan) if _stays(transfer, plan, unit)]
    if not found:
        return
    spans = ", ".join(str(unit.span) for unit in found[:_SHOWN])
    more = f" and {len(found) - _SHOWN} more" if len(found) > _SHOWN else ""
    head = transfer.dialect.read(plan.memory, found[0].address, 8)
    is_, its = ("is", "its") if len(found) == 1 else ("are", "their")
    raise VerifyFault.of(
        "write-protected",
        f"{count(len(found), 'unit')} {is_} write-protected: {spans}{more}",
        (
            f"erase and write are acknowledged, and {its} content stays",
            f"erased once more, {Span.of(found[0].address, 8)} still holds {show_bytes(head)}",
        ),
        (
            "greenstep unlock --writes lifts the write protection; it resets the chip and erases nothing",
            "or build the program for other units",
        ),
        "certain",
    )


def _written(plan: MemoryPlan) -> tuple[EraseUnit, ...]:
    return plan.units or plan.memory.units_of(piece.span for piece in plan.image.pieces)


def _stays(transfer: Transfer, plan: MemoryPlan, unit: EraseUnit) -> bool:
    """Whether a unit that differs from the image still does after another erase."""
    memory = plan.memory
    before = _content(transfer, plan, unit)
    wanted = plan.image.cut(unit.address, len(before), memory.erased)
    if not before.strip(bytes([memory.erased])) or _was_written(before, wanted, memory.erased):
        return False
    for _ in transfer.dialect.erase(memory, [unit]):
        pass
    return _content(transfer, plan, unit) == before


def _was_written(found: bytes, wanted: bytes, erased: int) -> bool:
    """Whether every bit that programming moves away from blank has moved: then writing had an effect."""
    return all(not (a ^ erased) & ~(b ^ erased) & 0xFF for a, b in zip(wanted, found, strict=True))


def _content(transfer: Transfer, plan: MemoryPlan, unit: EraseUnit) -> bytes:
    """What a unit holds; of a large one, its beginning."""
    return read_all(transfer.dialect, plan.memory, [Span.of(unit.address, min(unit.size, _LOOKED_AT))])
