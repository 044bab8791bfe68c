"""Cells for CSV files that a spreadsheet will open."""

from __future__ import annotations


def safe_cell(value: object) -> object:
    """A spreadsheet must not take a text, such as a board's name, for a formula."""
    return f"'{value}" if isinstance(value, str) and value[:1] in ("=", "+", "-", "@") else value
