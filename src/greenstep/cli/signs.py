"""What a stream can show."""

from __future__ import annotations

from typing import TextIO


def shows_signs(stream: TextIO) -> bool:
    """Whether a stream can show the ladder's signs."""
    return (getattr(stream, "encoding", None) or "").lower().startswith("utf")
