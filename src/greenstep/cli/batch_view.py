"""A batch on the screen: a live table of ports on a terminal, else one line per board; or JSON lines."""

from __future__ import annotations

import sys
import time

from rich.console import Console, Group
from rich.live import Live
from rich.table import Table
from rich.text import Text

from greenstep.core.batch.results import Batch, BoardResult
from greenstep.core.events import HandsWanted, HeardMeanwhile, StepAdvanced, StepEnded, StepStarted
from greenstep.core.frozen import changing
from greenstep.core.quantities import count, show_seconds
from greenstep.work.batch_worker import Begins, Ends, Goes, News, Waits
from greenstep.work.batching import BatchView

from .fault_view import finding_lines
from .json_view import json_line, plain
from .screen import bar, live, say, shows_signs

_SIGNS = ({True: "●", False: "✗"}, {True: "+", False: "x"})
_BAR = 24
_WAITING = {"take off": "take the board off", "next": "waiting for the next board"}


def make_batch_view(as_json: bool, bell: bool) -> BatchView:
    if as_json:
        return _JsonLines()
    return _Table(bell) if sys.stdout.isatty() else _Lines()


def result_line(result: BoardResult, width: int, signs: dict[bool, str]) -> str:
    """A finished board in one line."""
    who = " ".join(part for part in (result.chip, result.unique_id) if part)
    said = f"{'green' if result.green else 'done'} in {show_seconds(result.seconds)}"
    if result.exit_code:
        said = result.cause or result.summary
    elif not result.green:
        said += ", not all proven"
    own = f"   {result.own_values}" if result.own_values else ""
    again = f"   the same chip as {result.same_as}" if result.same_as else ""
    journal = f"   journal {result.journal}" if result.journal else ""
    sign = signs[result.exit_code == 0]
    return f" {sign} {result.number:>3}  {result.port:<{width}}  {who}   {said}{journal}{again}{own}"


def summary_lines(batch: Batch, seconds: float, width: int) -> list[str]:
    """Counts, then each finding with what to try."""
    number = len(batch.results)
    if not number:
        return [" no board was there"]
    lines = [f" {batch.green} of {count(number, 'board')} green in {show_seconds(seconds)}"]
    if batch.done:
        lines[0] += f", {batch.done} done and not all proven"
    if batch.failed:
        lines[0] += f", {len(batch.failed)} failed"
    if batch.chips < number:
        lines[0] += f"; {count(batch.chips, 'different chip')}"
    for trouble in batch.troubles:
        which = ", ".join(str(n) for n in trouble.boards)
        lines += ["", f" {'board' if len(trouble.boards) == 1 else 'boards'} {which}: {trouble.finding.cause}"]
        lines += finding_lines(trouble.finding, width)[:6]
    return lines


class _Lines:
    """Without a terminal: a line when a board is done, and the totals."""

    def __init__(self) -> None:
        self._signs = _SIGNS[0 if shows_signs(sys.stdout) else 1]
        self._width = 0
        self._began_s = time.monotonic()

    def begin(self, title: str, ports: list[str]) -> None:
        self._width = max((len(port) for port in ports), default=12)
        self._say(title)

    def news(self, port: str, news: News) -> None:
        if isinstance(news, Waits):
            self._say(f"     {port}: {_WAITING[news.what]}")
        elif isinstance(news, Goes) and isinstance(news.event, HandsWanted):
            self._say(f"     {port}: {'; '.join(news.event.moves)}")
        elif isinstance(news, Goes) and isinstance(news.event, HeardMeanwhile):
            self._say(f"     {port}: {news.event.finding.cause}; again: {'; '.join(news.event.moves)}")

    def result(self, result: BoardResult, batch: Batch) -> None:
        self._say(result_line(result, self._width, self._signs))

    def remark(self, text: str) -> None:
        self._say(f" {text}")

    def tick(self) -> None:
        """Nothing moves here."""

    def end(self, batch: Batch) -> None:
        say("", *summary_lines(batch, time.monotonic() - self._began_s, 100))
        sys.stdout.flush()

    def close(self) -> None:
        """Nothing is held open."""

    @staticmethod
    def _say(text: str) -> None:
        say(text)
        sys.stdout.flush()


@changing
class _Row:
    """What the table shows for a port."""

    step: str = ""
    done: int = 0
    total: int = 0
    rate: str = ""
    said: str = ""
    style: str = ""


class _Table:
    """On a terminal: a row for each active port, finished boards above it, and a bell for each."""

    def __init__(self, bell: bool) -> None:
        self._console = Console(highlight=False)
        self._signs = _SIGNS[0 if shows_signs(sys.stdout) else 1]
        self._bell = bell
        self._rows: dict[str, _Row] = {}
        self._live = Live(console=self._console, auto_refresh=False, transient=True)
        self._began_s = time.monotonic()
        self._counts = "0 green, 0 failed"

    def begin(self, title: str, ports: list[str]) -> None:
        self._console.print(live(title, "bold"))
        self._console.print()
        self._rows = {port: _Row(said="begins") for port in ports}
        self._live.start()
        self.tick()

    def news(self, port: str, news: News) -> None:
        row = self._rows.setdefault(port, _Row())
        match news:
            case Waits(what):
                self._rows[port] = _Row(said=_WAITING[what], style="bold" if what == "next" else "")
            case Begins():
                self._rows[port] = _Row(said="begins")
            case Goes(StepStarted(step)):
                row.step, row.done, row.total, row.rate, row.said = step, 0, 0, "", ""
            case Goes(StepAdvanced() as event):
                row.done, row.total = event.done, event.total
                row.rate = _left(event)
            case Goes(HandsWanted() as event):
                row.said = "; ".join(event.moves)
            case Goes(HeardMeanwhile() as event):
                row.said = f"{event.finding.cause}; again: {'; '.join(event.moves)}"
            case Goes():
                row.done = row.total
            case Ends(result):
                self._rows[port] = _ended(result, self._signs)

    def result(self, result: BoardResult, batch: Batch) -> None:
        width = max(len(port) for port in self._rows) if self._rows else 12
        style = "green" if result.green else "red" if result.exit_code else "yellow"
        text = live(result_line(result, width, self._signs))
        text.overflow, text.no_wrap = "ellipsis", True
        text.stylize(style, 0, 2)
        self._console.print(text)
        self._counts = f"{batch.green} green, {len(batch.failed)} failed"
        if self._bell:
            self._console.bell()
            if result.exit_code:
                self._console.bell()

    def remark(self, text: str) -> None:
        self._console.print(live(f" {text}", "yellow"))

    def tick(self) -> None:
        table = Table(box=None, show_header=False, padding=(0, 1))
        for width in (None, 8, _BAR, None):
            table.add_column(min_width=width)
        for port, row in self._rows.items():
            gone = bar(row.done, row.total, _BAR, self._signs[True] == "●") if row.total else ""
            said = live(row.said or row.rate, row.style)
            table.add_row(live(port), live(row.step), Text(gone, style="green"), said)
        under = Text(
            f" {show_seconds(time.monotonic() - self._began_s)}   {self._counts}   Ctrl-C ends it after these boards"
        )
        self._live.update(Group(Text(""), table, Text(""), under), refresh=True)

    def end(self, batch: Batch) -> None:
        self.close()
        lines = summary_lines(batch, time.monotonic() - self._began_s, min(self._console.width, 120))
        style = "bold green" if batch.results and batch.green == len(batch.results) else "bold"
        self._console.print()
        for number, line in enumerate(lines):
            self._console.print(live(line, "" if number else style))

    def close(self) -> None:
        self._live.stop()


def _left(event: StepAdvanced) -> str:
    if event.unit == "seconds" or not event.done or not event.elapsed_s:
        return ""
    left = show_seconds((event.total - event.done) * event.elapsed_s / event.done)
    rate = f"{event.done / event.elapsed_s / 1000:.1f} kB/s  " if event.unit == "bytes" else ""
    return f"{rate}{left} left"


def _ended(result: BoardResult, signs: dict[bool, str]) -> _Row:
    style = "green" if result.green else "red" if result.exit_code else "yellow"
    said = f"green in {show_seconds(result.seconds)}" if result.green else result.cause or result.summary
    return _Row(said=f"{signs[result.exit_code == 0]} {said}", style=style)


class _JsonLines:
    """Events for programs: what the ladder's are, each with its port, and a line for each board and the end."""

    def __init__(self) -> None:
        self._began_s = time.monotonic()

    def begin(self, title: str, ports: list[str]) -> None:
        json_line("batch-started", title=title, ports=ports)

    def news(self, port: str, news: News) -> None:
        if isinstance(news, Waits):
            json_line("waits", port=port, **{"for": news.what})
        elif isinstance(news, Goes) and isinstance(news.event, StepEnded):
            json_line("step-ended", port=port, **plain(news.event))
        elif isinstance(news, Goes) and isinstance(news.event, HandsWanted):
            json_line("hands-wanted", port=port, **plain(news.event))
        elif isinstance(news, Goes) and isinstance(news.event, HeardMeanwhile):
            json_line("heard-meanwhile", port=port, **plain(news.event))

    def result(self, result: BoardResult, batch: Batch) -> None:
        json_line("board-ended", **plain(result))

    def remark(self, text: str) -> None:
        json_line("noted", text=text)

    def tick(self) -> None:
        """Nothing moves here."""

    def end(self, batch: Batch) -> None:
        json_line(
            "batch-ended",
            boards=len(batch.results),
            green=batch.green,
            failed=len(batch.failed),
            seconds=time.monotonic() - self._began_s,
            exit_code=batch.exit_code,
            findings=batch.troubles,
        )

    def close(self) -> None:
        """Nothing is held open."""
