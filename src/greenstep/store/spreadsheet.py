"""Cells for CSV files that a spreadsheet will open."""

from __future__ import annotations

from greenstep.core.safety.harmless_text import harmless


def safe_cell(value: object) -> object:
    """A spreadsheet must not take a text, such as a board's name, for a formula, nor a terminal for orders."""
    if not isinstance(value, str):
        return value
    return f"'{harmless(value)}" if value[:1] in ("=", "+", "-", "@") else harmless(value)
