"""Which boards can be locked and unlocked."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from greenstep.core.dialects.registry import dialect_names, find_dialect
from greenstep.core.errors import Finding, RefusedFault

from .target import find_chip, settle


def refuse_without(
    way: Literal["lock", "unlock"], words: tuple[str, ...], options: Mapping[str, Any], writes: bool = False
) -> None:
    """Refuse before a port is opened what the board's dialect cannot. Raises RefusedFault, UsageFault."""
    _, said = settle(words, options)
    dialect = find_dialect(said.dialect or find_chip(said).dialect)
    if way in dialect.traits.locks and (dialect.traits.lifts_write_protection or not writes):
        return
    able = [
        name for name in dialect_names()
        if way in (traits := find_dialect(name).traits).locks and (traits.lifts_write_protection or not writes)
    ]  # fmt: skip
    cause = f"the {dialect.title} cannot {'lift write protection' if writes else f'{way} the chip'}"
    raise RefusedFault(Finding(f"cannot-{way}", cause, (), (f"these can: {', '.join(able)}",)))
