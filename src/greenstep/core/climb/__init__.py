"""The ladder: image, port, enter, sync, chip, erase, write, verify, start; each rung on evidence."""

from .job import Job, OpenedPort, OpenLink, Purpose
from .ladder import Climb

__all__ = ["Climb", "Job", "OpenLink", "OpenedPort", "Purpose"]
