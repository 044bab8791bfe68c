"""The ladder for a build's log: what was done to the chip, in a few lines; everything if something failed."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime

from greenstep.core.events import (
    Event,
    HandsWanted,
    HeardMeanwhile,
    Noted,
    RunEnded,
    RunStarted,
    Step,
    StepAdvanced,
    StepEnded,
)

from .ladder_view import LadderView

_TOLD: frozenset[Step] = frozenset(("compare", "keep", "write", "verify", "put back", "start", "talk"))


class ShortView:
    """Holds the steps back until it is known how the run ends; what a person must do now is shown at once."""

    def __init__(self) -> None:
        self._ladder = LadderView()
        self._held: list[Event] = []

    def show(self, event: Event) -> None:
        match event:
            case RunStarted():
                at = datetime.now().astimezone().strftime("%Y-%m-%d %H:%M:%S")
                self._ladder.show(replace(event, line=f"{event.line}   {at}"))
            case HandsWanted() | HeardMeanwhile():
                self._ladder.show(event)
            case StepAdvanced():
                """Nothing moves in a log."""
            case RunEnded():
                short = event.exit_code == 0
                for held in self._held:
                    if not short or self._is_told(held):
                        self._ladder.show(held)
                self._held = []
                self._ladder.show(event)
            case _:
                self._held.append(event)

    @staticmethod
    def _is_told(event: Event) -> bool:
        if isinstance(event, StepEnded):
            return event.step in _TOLD or event.outcome != "green"
        return isinstance(event, Noted) and event.step in _TOLD

    def passed(self, line: str) -> None:
        """A short ladder shows none."""

    def details(self, rows: list[tuple[str, str]]) -> None:
        self._ladder.details(rows)

    def close(self) -> None:
        self._ladder.close()
