"""What a person may have meant by an unknown name."""

from __future__ import annotations

from collections.abc import Iterable


def nearest(name: str, names: Iterable[str], most: int = 1, alike: float = 0.6) -> list[str]:
    """The names that are similar to `name`, most similar first. `alike` is from 0 (anything) to 1 (identical)."""
    from difflib import get_close_matches  # loaded when something is misspelt

    return get_close_matches(name, list(names), most, alike)
