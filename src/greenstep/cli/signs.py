"""What a stream can show."""

from __future__ import annotations

from typing import TextIO


def shows_signs(stream: TextIO) -> bool:
    """Whether a stream can show the ladder's signs."""
    return (getattr(stream, "encoding", None) or "").lower().startswith("utf")


def bar(done: float, total: float, width: int, signs: bool) -> str:
    """How much is done, as a row of marks."""
    full = min(width, int(width * done / total)) if total else 0
    mark, rest = ("▰", "▱") if signs else ("*", ".")
    return mark * full + rest * (width - full)
