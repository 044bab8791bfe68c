"""Is this very image there already? Only the chip is asked and believed."""

from __future__ import annotations

from greenstep.core.errors import EXIT_INTERRUPTED
from greenstep.core.events import Found, RunEnded, StepEnded
from greenstep.core.frozen import frozen

from .interrupts import Interrupts
from .run import Run


@frozen
class Compared:
    """`same`: every byte of the images was found in the chip, by `proof`. Else `finding` is the key of the reason; if
    it cannot be told (no answer, nothing to read back), it is not the same."""

    same: bool
    proof: str
    finding: str


def compared(verify: Run) -> Compared:
    """The result of a verify. It ends at the first byte that differs, and leaves the application running. Raises
    KeyboardInterrupt."""
    interrupts, proof, finding = Interrupts(), "", ""
    with interrupts.caught():
        for event in verify.events(interrupts):
            if isinstance(event, StepEnded) and event.step == "verify" and event.outcome == "green":
                proof = event.evidence
            elif isinstance(event, Found):
                finding = event.findings[0].key
            elif isinstance(event, RunEnded) and event.exit_code == EXIT_INTERRUPTED:
                raise KeyboardInterrupt
    return Compared(bool(proof) and not finding and not verify.outcome.unproven, proof, finding)
