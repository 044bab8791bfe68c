"""Which boards can be locked and unlocked."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from greenstep.core.dialects.registry import dialect_names, find_dialect
from greenstep.core.errors import Finding, RefusedFault

from .target import find_chip, settle


def refuse_without(way: Literal["lock", "unlock"], words: tuple[str, ...], options: Mapping[str, Any]) -> None:
    """Refuse before a port is opened what the board's dialect cannot. Raises RefusedFault, UsageFault."""
    _, said = settle(words, options)
    dialect = find_dialect(said.dialect or find_chip(said).dialect)
    if way in dialect.traits.locks:
        return
    able = [name for name in dialect_names() if way in find_dialect(name).traits.locks]
    cause = f"the {dialect.title} cannot {way} the chip"
    raise RefusedFault(Finding(f"cannot-{way}", cause, (), (f"these can: {', '.join(able)}",)))
