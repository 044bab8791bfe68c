"""The order in which rules are asked. The first that applies is the finding shown first."""

from __future__ import annotations

from collections.abc import Callable

from ..errors import Finding
from .chip_rules import CHIP_RULES, locked
from .line_rules import (
    application_text,
    echo,
    frame_mismatch,
    heard_before_only,
    other_dialect,
    parity_flagged,
    reset_too_early,
    rom_text,
    silence,
    stray,
)
from .observations import Observations
from .port_rules import shared_port
from .rate_rules import answers_elsewhere, garbage, program_at_its_rate
from .verify_rules import START_RULES, VERIFY_RULES

Rule = Callable[[Observations], Finding | None]


def shared_with_the_system(seen: Observations) -> Finding | None:
    """The port is the system's console, or a login waits on it."""
    return shared_port(seen.port, seen.shared_with) if seen.shared_with else None


# Why an order and not weights
# ----------------------------
# Every rule looks at the same observations and answers yes with a reason, or nothing. Several may hold at
# once: a board whose boot jumper is not set stays silent, and so does one without power, and one whose TX and
# RX are swapped. Weights would have to be tuned for each pair; an order can be argued about. It is: first
# what explains *everything* that was seen and is cheap to be sure of (our own bytes came back: an echo), then
# what a single observation proves (a program's text; a loader of another family), then what is only likely,
# and at the end what is left when nothing was heard.
#
# A rule that is certain ends the search, so that nobody reads two causes where there is one. The order is
# held by `tests/core/situations/`: hundreds of situations on simulated boards, each with the finding that
# must come first. Whoever moves a rule sees there whom it harms.
_SYNC_RULES: tuple[Rule, ...] = (
    shared_with_the_system,
    echo,
    frame_mismatch,
    answers_elsewhere,
    rom_text,
    other_dialect,
    reset_too_early,
    application_text,
    parity_flagged,
    program_at_its_rate,
    garbage,
    heard_before_only,
    stray,
    silence,
)

_BY_PHASE: dict[str, tuple[Rule, ...]] = {
    "sync": _SYNC_RULES,
    "chip": (echo, frame_mismatch, *CHIP_RULES),
    "erase": CHIP_RULES,
    "write": CHIP_RULES,
    "verify": (*VERIFY_RULES, *CHIP_RULES),
    "start": (locked, *START_RULES, *CHIP_RULES),
}


def diagnose(seen: Observations, most: int = 2) -> tuple[Finding, ...]:
    """Findings for what was seen, most likely first; at least one, at most `most`.

    A certain finding stands alone.
    """
    found: list[Finding] = []
    for rule in _BY_PHASE[seen.phase]:
        finding = rule(seen)
        if finding is None or any(finding.key == other.key for other in found):
            continue
        found.append(finding)
        if finding.certainty != "possible" or len(found) == most:
            break
    if not found:
        raise AssertionError(f"no rule holds in phase {seen.phase}: its last rule must always hold")
    return tuple(found)
