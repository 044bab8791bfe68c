"""Findings: from what was observed to a cause in plain words, its evidence, and what to try.

Plain data in, plain data out: each file holds the rules for one kind of situation; `diagnose` asks them in order, and
is loaded only when something has to be explained.
"""

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from .diagnose import diagnose
    from .observations import ChipSeen, Difference, LineHeard, Observations, Progress

__all__ = ["ChipSeen", "Difference", "LineHeard", "Observations", "Progress", "diagnose"]


def __getattr__(name: str) -> Any:
    """Raises AttributeError."""
    if name not in __all__:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from . import observations
    from .diagnose import diagnose

    # `diagnose` is also the name of its file: callers ask for the function
    globals()["diagnose"] = diagnose
    return diagnose if name == "diagnose" else getattr(observations, name)
