"""What a terminal shows of the ladder beyond its lines: colours, and a bar during a long step."""

from __future__ import annotations

from typing import TextIO

from rich.console import Console
from rich.progress import Progress, ProgressColumn, Task, TaskID, TextColumn
from rich.text import Text

from greenstep.core.events import StepAdvanced
from greenstep.core.quantities import show_seconds

from .screen import bar, live, shows_signs


class _Bar(ProgressColumn):
    """How much of the step is done."""

    def __init__(self, signs: bool) -> None:
        super().__init__()
        self._signs = signs

    def render(self, task: Task) -> Text:
        return Text(bar(task.completed, task.total or 0, 24, self._signs), style="green")


class _Left(ProgressColumn):
    """Rate and time left, by the event's own clock."""

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


class Live:
    """A terminal. `width` is in characters."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream
        self._console = Console(file=stream, highlight=False, soft_wrap=True)
        self._bar: tuple[Progress, TaskID] | None = None

    @property
    def width(self) -> int:
        return self._console.width

    def line(self, text: str, style: str, head: int, head_style: str) -> None:
        """One line; `head_style` is that of its first characters."""
        shown = live(text, style)
        if head:
            shown.stylize(head_style, 0, head)
        self._console.print(shown)

    def advance(self, event: StepAdvanced) -> None:
        """Show the progress of a step."""
        if not self._console.is_terminal:
            return
        if self._bar is None:
            progress = Progress(
                TextColumn(" ◌ {task.description:<8}"),
                _Bar(shows_signs(self._stream)),
                TextColumn("{task.percentage:>3.0f} %"),
                _Left(),
                console=self._console,
                transient=True,
            )
            progress.start()
            task = progress.add_task(event.step, total=event.total, unit=event.unit, elapsed_s=event.elapsed_s)
            self._bar = progress, task
        progress, task = self._bar
        progress.update(task, completed=event.done, total=event.total, elapsed_s=event.elapsed_s)

    def stop_bar(self) -> None:
        """Remove the bar."""
        if self._bar is not None:
            self._bar[0].stop()
            self._bar = None
