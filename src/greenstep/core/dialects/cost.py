"""What an exchange costs, for plans and estimates."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from ..frozen import frozen

if TYPE_CHECKING:
    from ..link import LineSettings


@frozen
class Cost:
    """What an exchange costs: characters each way, turnarounds that must be waited for, and time the chip is busy."""

    sent: int = 0
    heard: int = 0
    turnarounds: int = 0
    busy_s: float = 0.0

    def __add__(self, other: Cost) -> Cost:
        return Cost(
            self.sent + other.sent,
            self.heard + other.heard,
            self.turnarounds + other.turnarounds,
            self.busy_s + other.busy_s,
        )

    def seconds(self, settings: LineSettings, turnaround_s: float) -> float:
        line_s = settings.seconds(self.sent + self.heard)
        return line_s + self.turnarounds * turnaround_s + self.busy_s


def sum_costs(costs: Iterable[Cost]) -> Cost:
    """All of them, one after the other."""
    return sum(costs, Cost())
