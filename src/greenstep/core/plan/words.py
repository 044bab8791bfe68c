"""A plan in words."""

from __future__ import annotations

from ..quantities import count, show_size
from .model import Plan


def describe(plan: Plan) -> str:
    """One line: what will be erased and written."""
    parts = []
    for memory in plan.memories:
        if memory.whole_erase:
            parts.append(f"erase all {show_size(memory.memory.size)}")
        elif memory.units:
            parts.append(f"erase {count(len(memory.units), 'unit')}")
        parts.append(f"write {count(len(memory.blocks), 'block')}, {memory.write_bytes:,} bytes")
    return ", ".join(parts)
