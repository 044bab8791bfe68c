"""What a person may have meant by a name that there is not."""

from __future__ import annotations

from collections.abc import Iterable


def nearest(name: str, names: Iterable[str], most: int = 1, alike: float = 0.6) -> list[str]:
    """Those of the names that are like `name`, the likest first. `alike` is from 0 (anything) to 1 (the same)."""
    from difflib import get_close_matches  # loaded where something is misspelt

    return get_close_matches(name, list(names), most, alike)
