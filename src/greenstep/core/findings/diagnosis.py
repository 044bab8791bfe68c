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
