"""Judging rates: the error of each, what both ends tolerate, and which is the highest safe one."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from ..frozen import frozen
from ..link import Frame
from .uarts import Divided, Mode, UartRules

USUAL_BAUDS = (
    *(1200, 2400, 4800, 9600, 14400, 19200, 28800, 38400, 57600, 76800, 115200),
    *(230400, 250000, 460800, 500000, 921600, 1000000, 2000000),
)
SAFE_EACH = 0.02
"""What each end should stay within, so that both together are within what a receiver tolerates."""

Verdict = Literal["safe", "edge", "no"]
MISSET = (0.25, 0.5, 2.0, 4.0)


@frozen
class RateMade:
    """A baud rate and the best that a clock makes of it. `error` is a share, positive if the chip is fast;
    `tolerates` is what its receiver tolerates, as a share; the errors of both ends count against it. None if no
    divider can."""

    baud: int
    mode: Mode | None
    divided: Divided | None
    error: float
    tolerates: float
    verdict: Verdict


def judge(
    rules: UartRules, clock_hz: float, frame: Frame, bauds: Sequence[int] = USUAL_BAUDS, adapter: float = 0.0
) -> list[RateMade]:
    """Each rate with the mode that has most margin. `adapter` is the other end's own error, as a share."""
    return [_best(rules, clock_hz, frame, baud, adapter) for baud in bauds]


def _best(rules: UartRules, clock_hz: float, frame: Frame, baud: int, adapter: float) -> RateMade:
    made = []
    for mode in rules.modes:
        divided = mode.divide(clock_hz, baud)
        if divided is not None:
            error = divided.real / baud - 1
            made.append((mode.tolerance(divided, frame) - abs(error - adapter), mode, divided, error))
    if not made:
        return RateMade(baud, None, None, 0.0, 0.0, "no")
    spare, mode, divided, error = max(made, key=lambda one: one[0])
    verdict: Verdict = "no" if spare <= 0 else "safe" if abs(error - adapter) <= SAFE_EACH else "edge"
    return RateMade(baud, mode, divided, error, mode.tolerance(divided, frame), verdict)


def highest_safe(made: Sequence[RateMade]) -> RateMade | None:
    """The fastest safe one."""
    return max((rate for rate in made if rate.verdict == "safe"), key=lambda rate: rate.baud, default=None)


def rates_if_wrong(made: RateMade) -> list[tuple[float, float]]:
    """(factor, baud) heard from a program that assumes this clock, while the real one is that many times as fast:
    another crystal, prescaler or PLL than the program was built for."""
    real = made.divided.real if made.divided else float(made.baud)
    return [(factor, real * factor) for factor in MISSET]
