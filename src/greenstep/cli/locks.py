"""Which boards can be locked and unlocked."""

from __future__ import annotations

from typing import Literal

from greenstep.core.dialects.registry import dialect_names, find_dialect
from greenstep.core.dialects.spec import Spec
from greenstep.core.errors import RefusedFault
from greenstep.work.board import Board


def refuse_without(way: Literal["lock", "unlock"], board: Board, writes: bool = False) -> None:
    """Before a port is opened, refuse what the board's dialect cannot do. Raises RefusedFault, UsageFault."""

    def is_able(spec: Spec) -> bool:
        able = spec.can_lock if way == "lock" else spec.can_unlock
        return able and (spec.lifts_write_protection or not writes)

    dialect = board.dialect
    if is_able(dialect.spec):
        return
    able = [name for name in dialect_names() if is_able(find_dialect(name).spec)]
    cause = f"the {dialect.title} cannot {'lift write protection' if writes else f'{way} the chip'}"
    raise RefusedFault.of(f"cannot-{way}", cause, (), (f"these can: {', '.join(able)}",))
