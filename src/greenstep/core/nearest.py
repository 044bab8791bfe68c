"""What a person may have meant by an unknown name."""

from __future__ import annotations

from collections.abc import Iterable

from .other_words import NAMES


def nearest(name: str, names: Iterable[str], most: int = 1, alike: float = 0.6) -> list[str]:
    """The names that are similar to `name`: the one that replaced it first, then the most similar. `alike` is from 0
    (anything) to 1 (identical)."""
    from difflib import get_close_matches  # loaded when something is misspelt

    known = list(names)
    now = [NAMES[name]] if NAMES.get(name) in known else []
    return [*now, *(near for near in get_close_matches(name, known, most, alike) if near not in now)][:most]
