"""A run on the screen: one line per step, with a live bar during a long step on a terminal; in few lines for a
build's log; and the bytes of the line as they go by."""

from __future__ import annotations

import os
import sys
from dataclasses import replace
from datetime import datetime
from typing import TYPE_CHECKING, TextIO

from greenstep.core.events import (
    Event,
    Found,
    HandsWanted,
    HeardMeanwhile,
    Noted,
    Outcome,
    RunEnded,
    RunStarted,
    Step,
    StepAdvanced,
    StepEnded,
    StepStarted,
)
from greenstep.core.quantities import show_seconds
from greenstep.core.safety.harmless_text import harmless
from greenstep.core.trace.exchanges import Passing

from .fault_view import finding_lines, other_causes, wrapped
from .screen import shows_signs

if TYPE_CHECKING:
    from greenstep.core.engine.job import Job
    from greenstep.core.trace.recording import LineEvent

    from .drive import View
    from .live_bar import Live


_SIGNS: dict[Outcome, str] = {"green": "●", "unproven": "◐", "failed": "✗", "not reached": "○"}
_PLAIN_SIGNS: dict[Outcome, str] = {"green": "+", "unproven": "~", "failed": "x", "not reached": "."}
_STYLES: dict[Outcome, str] = {"green": "green", "unproven": "yellow", "failed": "red", "not reached": "dim"}
_TEXT_AT = 12


class LadderView:
    """Prints events as they come. `width` is the terminal's; without a terminal lines are not broken."""

    def __init__(self, stream: TextIO | None = None) -> None:
        self._stream = stream or sys.stdout
        self._live: Live | None = None
        if self._stream.isatty() or os.environ.get("FORCE_COLOR"):
            from .live_bar import Live

            self._live = Live(self._stream)
        self._width = min(self._live.width, 120) if self._live is not None else 10_000
        self._signs = _SIGNS if shows_signs(self._stream) else _PLAIN_SIGNS

    def show(self, event: Event) -> None:
        """One event. Nothing is printed for those that only a bar can show."""
        match event:
            case RunStarted():
                self._head(event)
            case StepStarted():
                self._stop_bar()
            case StepAdvanced():
                self._advance(event)
            case HandsWanted():
                self._hands(event)
            case HeardMeanwhile():
                self._heard(event)
            case Noted():
                self._stop_bar()
                self._print(f"   {'note':<{_TEXT_AT - 3}}{event.text}")
            case StepEnded():
                self._stop_bar()
                self._step(event)
            case Found():
                self._found(event)
            case RunEnded():
                self._end(event)

    def close(self) -> None:
        """Remove the live bar, whatever happened."""
        self._stop_bar()

    def passed(self, line: str) -> None:
        """Bytes that went by."""
        self._stop_bar()
        self._line(line, "dim")

    def details(self, rows: list[tuple[str, str]]) -> None:
        """Rows of a name and a value."""
        self._line()
        for name, value in rows:
            self._print(f"   {name:<{_TEXT_AT}} {value}", hang=_TEXT_AT + 4)

    # --- parts

    def _line(self, text: str = "", style: str = "", head: int = 0, head_style: str = "") -> None:
        """One line; `head_style` is that of its first characters."""
        if self._live is not None:
            self._live.line(text, style, head, head_style)
        else:
            self._stream.write(f"{harmless(text)}\n")

    def _print(self, text: str, style: str = "", hang: int = _TEXT_AT) -> None:
        for line in wrapped(text, self._width, hang):
            self._line(line, style)

    def _head(self, event: RunStarted) -> None:
        parts = [part for part in (event.board, event.chip, event.port, event.line) if part]
        self._line("   ".join(parts), "bold")
        self._line()

    def _step(self, event: StepEnded) -> None:
        sign, style = self._signs[event.outcome], _STYLES[event.outcome]
        text = event.evidence
        figures = event.figures
        if event.step in ("write", "verify") and event.outcome == "green" and figures.get("bytes"):
            rate = float(figures["bytes_per_second"]) / 1000
            text = f"{text:<36} {show_seconds(event.elapsed_s):>7}"
            if int(figures["line_percent"]) > 0 and int(figures["blocks"]):
                text += f"   {rate:.1f} kB/s   {figures['line_percent']} % of the line"
        elif event.step == "erase" and event.outcome == "green" and figures.get("bytes"):
            text = f"{text:<36} {show_seconds(event.elapsed_s):>7}"
        lines = wrapped(f" {sign} {event.step:<{_TEXT_AT - 4}} {text}".rstrip(), self._width, _TEXT_AT)
        for index, line in enumerate(lines):
            whole = "dim" if event.outcome == "not reached" else ""
            self._line(line, whole, 0 if index else 2 + len(event.step) + 1, style)

    def _hands(self, event: HandsWanted) -> None:
        self._stop_bar()
        moves = event.moves
        for index, move in enumerate(moves, 1):
            label = "now" if index == 1 else ""
            number = f"{index}. " if len(moves) > 1 else ""
            self._print(f"   {label:<{_TEXT_AT - 3}}{number}{move}", style="bold")
        doing = "asking" if event.step == "sync" else "listening"
        self._print(f"   {'':<{_TEXT_AT - 3}}{doing} for {show_seconds(event.patience_s)} …")

    def _heard(self, event: HeardMeanwhile) -> None:
        self._stop_bar()
        self._print(f"   {'heard':<{_TEXT_AT - 3}}{event.finding.cause}", style="yellow")
        for line in event.finding.evidence[:1]:
            self._print(f"   {'':<{_TEXT_AT - 3}}{line}")
        for number, move in enumerate(event.moves):
            self._print(f"   {'again' if not number else '':<{_TEXT_AT - 3}}{number + 1}. {move}", style="bold")

    def _advance(self, event: StepAdvanced) -> None:
        if self._live is not None:
            self._live.advance(event)

    def _stop_bar(self) -> None:
        if self._live is not None:
            self._live.stop_bar()

    def _found(self, event: Found) -> None:
        first, *others = event.findings
        for line in (*finding_lines(first, self._width), *other_causes(others, self._width)):
            self._line(line)

    def _end(self, event: RunEnded) -> None:
        self._stop_bar()
        self._line()
        if event.green:
            text, style = f" green in {show_seconds(event.elapsed_s)}: {event.summary}", "bold green"
        elif event.exit_code == 0:
            text, style = f" done in {show_seconds(event.elapsed_s)}, not all proven: {event.summary}", "yellow"
        else:
            text, style = f" {event.summary}", "bold red"
        if event.journal:
            text += f". Journal {event.journal}."
        self._print(text, style=style, hang=1)
        if event.chip_state:
            self._print(f" {event.chip_state}", hang=1)
        if event.hands:
            self._print(f" by hand, before the next power-up: {'; '.join(event.hands)}", style="bold", hang=1)


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


def shown_passing(job: Job, view: View, as_json: bool) -> Job:
    """The job, whose bytes the view is told of."""
    passing = Passing(job.secrets)

    def watch(event: LineEvent) -> None:
        for line in passing.take(event):
            if as_json:
                from .json_view import json_line

                json_line("passed", text=line.strip())
            else:
                view.passed(line)

    return replace(job, watch=watch)
