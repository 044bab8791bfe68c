"""Findings: from what was observed to a cause in plain words, its evidence, and what to try.

Plain data in, plain data out: each file holds the rules of one kind of situation, `diagnose` asks them in
order.
"""

from .diagnose import diagnose
from .observations import ChipSeen, Difference, LineHeard, Observations, Progress, Refusal

__all__ = [
    "ChipSeen",
    "Difference",
    "LineHeard",
    "Observations",
    "Progress",
    "Refusal",
    "diagnose",
]
