"""The ladder on the screen: one line a rung, a live bar while a long step runs."""

from __future__ import annotations

import sys
from typing import TextIO

from rich.console import Console
from rich.progress import BarColumn, Progress, ProgressColumn, Task, TaskID, TextColumn
from rich.text import Text

from greenstep.core.events import (
    ClimbEnded,
    ClimbStarted,
    Event,
    Found,
    HandsWanted,
    Noted,
    Outcome,
    StepAdvanced,
    StepEnded,
    StepStarted,
)
from greenstep.core.quantities import show_seconds

from .fault_lines import finding_lines, other_causes, wrapped

_SIGNS: dict[Outcome, str] = {"green": "●", "unproven": "◐", "failed": "✗", "not reached": "○"}
_PLAIN_SIGNS: dict[Outcome, str] = {"green": "+", "unproven": "~", "failed": "x", "not reached": "."}
_STYLES: dict[Outcome, str] = {"green": "green", "unproven": "yellow", "failed": "red", "not reached": "dim"}
_TEXT_AT = 12


class _Left(ProgressColumn):
    """Rate and time left, from the event's own clock."""

    def render(self, task: Task) -> Text:
        elapsed = task.fields["elapsed_s"]
        if task.fields["unit"] == "seconds":
            return Text(f"{max(0, int((task.total or 0) - task.completed))} s left")
        if not task.completed or not elapsed:
            return Text("")
        rate = task.completed / elapsed
        left = show_seconds(((task.total or 0) - task.completed) / rate)
        shown = f"{rate / 1000:.1f} kB/s" if task.fields["unit"] == "bytes" else ""
        return Text(f"{shown}  {left} left")


class LadderView:
    """Prints events as they come. `width` is the terminal's; without a terminal lines are not broken."""

    def __init__(self, stream: TextIO | None = None) -> None:
        self._console = Console(file=stream or sys.stdout, highlight=False, soft_wrap=True)
        self._live = self._console.is_terminal
        self._width = min(self._console.width, 120) if self._live else 10_000
        encoding = (self._console.encoding or "").lower()
        self._signs = _SIGNS if encoding.startswith("utf") else _PLAIN_SIGNS
        self._progress: Progress | None = None
        self._task: TaskID | None = None

    def show(self, event: Event) -> None:
        """One event. Nothing is printed for those that only a bar can show."""
        match event:
            case ClimbStarted():
                self._head(event)
            case StepStarted():
                self._stop_bar()
            case StepAdvanced():
                self._advance(event)
            case HandsWanted():
                self._hands(event)
            case Noted():
                self._stop_bar()
                self._print(f"   {'note':<{_TEXT_AT - 3}}{event.text}")
            case StepEnded():
                self._stop_bar()
                self._rung(event)
            case Found():
                self._found(event)
            case ClimbEnded():
                self._end(event)

    def close(self) -> None:
        """Take the live bar away, whatever happened."""
        self._stop_bar()

    def details(self, rows: list[tuple[str, str]]) -> None:
        """Rows of a name and a value."""
        self._console.print()
        for name, value in rows:
            self._print(f"   {name:<{_TEXT_AT}} {value}", hang=_TEXT_AT + 4)

    # --- parts

    def _print(self, text: str, style: str = "", hang: int = _TEXT_AT) -> None:
        for line in wrapped(text, self._width, hang):
            self._console.print(Text(line, style=style))

    def _head(self, event: ClimbStarted) -> None:
        parts = [part for part in (event.board, event.chip, event.port, event.line) if part]
        self._console.print(Text("   ".join(parts), style="bold"))
        self._console.print()

    def _rung(self, event: StepEnded) -> None:
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
            shown = Text(line, style="dim" if event.outcome == "not reached" else "")
            if index == 0:
                shown.stylize(style, 0, 2 + len(event.step) + 1)
            self._console.print(shown)

    def _hands(self, event: HandsWanted) -> None:
        self._stop_bar()
        moves = event.moves
        for index, move in enumerate(moves, 1):
            label = "now" if index == 1 else ""
            number = f"{index}. " if len(moves) > 1 else ""
            self._print(f"   {label:<{_TEXT_AT - 3}}{number}{move}", style="bold")
        self._print(f"   {'':<{_TEXT_AT - 3}}asking for {show_seconds(event.patience_s)} …")

    def _advance(self, event: StepAdvanced) -> None:
        if not self._live:
            return
        if self._progress is None:
            self._progress = Progress(
                TextColumn(" ◌ {task.description:<8}"),
                BarColumn(36, complete_style="green", finished_style="green"),
                TextColumn("{task.percentage:>3.0f} %"),
                _Left(),
                console=self._console,
                transient=True,
            )
            self._progress.start()
            self._task = self._progress.add_task(
                event.step, total=event.total, unit=event.unit, elapsed_s=event.elapsed_s
            )
        assert self._task is not None
        self._progress.update(self._task, completed=event.done, total=event.total, elapsed_s=event.elapsed_s)

    def _stop_bar(self) -> None:
        if self._progress is not None:
            self._progress.stop()
            self._progress = None

    def _found(self, event: Found) -> None:
        first, *others = event.findings
        for line in (*finding_lines(first, self._width), *other_causes(others, self._width)):
            self._console.print(line, markup=False)

    def _end(self, event: ClimbEnded) -> None:
        self._stop_bar()
        self._console.print()
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
