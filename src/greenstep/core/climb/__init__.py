"""The ladder: image, port, enter, sync, chip, compare, erase, write, verify, start; each rung on evidence."""

from .job import Aside, Job, OpenedPort, OpenLink, Purpose, Remembered
from .ladder import Climb

__all__ = ["Aside", "Climb", "Job", "OpenLink", "OpenedPort", "Purpose", "Remembered"]
