"""Made-up examples for a test, which say the same of the program on every machine and on every day."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis.strategies import SearchStrategy


def with_examples(*strategies: SearchStrategy[Any], most: int = 60) -> Callable[[Any], Any]:
    """`given`, without what depends on how busy the machine is, or on chance."""

    def decorate(test: Any) -> Any:
        quiet = settings(
            max_examples=most, deadline=None, derandomize=True, database=None,
            suppress_health_check=[HealthCheck.too_slow],
        )  # fmt: skip
        return quiet(given(*strategies)(test))

    return decorate
