"""The ladder: image, port, enter, sync, chip, compare, erase, write, verify, start; each step on evidence."""

from typing import TYPE_CHECKING, Any

from .job import Aside, Job, OpenedPort, OpenLink, Purpose, RateMemory

if TYPE_CHECKING:
    from .ladder import Climb

__all__ = ["Aside", "Climb", "Job", "OpenLink", "OpenedPort", "Purpose", "RateMemory"]


def __getattr__(name: str) -> Any:
    """Load the ladder itself only when it is asked for. Raises AttributeError."""
    if name != "Climb":
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from .ladder import Climb

    return Climb
