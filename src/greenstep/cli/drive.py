"""Running a job: its events to the view, Ctrl-C into the run, an exit status out of it."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from greenstep.core.events import Event, RunEnded, StepEnded
from greenstep.core.quantities import show_size
from greenstep.work.board import Board
from greenstep.work.run import Interrupts

from .options import How
from .prompts import AT_THE_TERMINAL
from .screen import say

if TYPE_CHECKING:
    from greenstep.core.engine.job import Purpose
    from greenstep.core.image import Image
    from greenstep.work.run import Run


class View(Protocol):
    """Whatever shows events."""

    def show(self, event: Event) -> None: ...

    def details(self, rows: list[tuple[str, str]]) -> None: ...

    def close(self) -> None: ...

    def passed(self, line: str) -> None:
        """Bytes that went by."""


def make_view(as_json: bool, ladder: str | None = "full") -> View:
    """`ladder` is 'short' or 'full'; None is short unless on a terminal."""
    if as_json:
        from .json_view import JsonView

        return JsonView()
    if ladder == "short" or (ladder is None and not sys.stdout.isatty()):
        from .run_view import ShortView

        return ShortView()
    from .run_view import LadderView

    return LadderView()


def run_board(
    purpose: Purpose,
    board: Board,
    how: How,
    region: tuple[str, int | None, int | None] | None = None,
    at_the_end: Callable[[Run], None] | None = None,
    as_it_was: bool = False,
    writes_only: bool = False,
    blank: bool = False,
    images: dict[str, Image] | None = None,
    listens_until: Callable[[], bool] | None = None,
    interrupts: Interrupts | None = None,
    recorded: bool = True,
) -> int:
    """The common body of the commands that work on a board; `at_the_end` is called after a green one. With
    `how.listen`, it listens until `listens_until` says so. `interrupts` are those of a caller who goes on after it.
    `recorded`: a row of the journal tells of it.
    The other arguments are `make_job`'s. Returns the exit status."""
    from greenstep.work.jobs import make_job

    if images is None and not blank and purpose == "verify":
        from greenstep.work.partition_names import images_for

        images = images_for(board, AT_THE_TERMINAL)
    job = make_job(purpose, board, AT_THE_TERMINAL, region, images, as_it_was, writes_only, how.listen, blank)
    program = None
    if how.listen and board.settings.elf is not None:
        from .listen import program_of

        program = program_of(board)  # a file that is missing is told before anything is written
    from greenstep.work.run import Run  # large: import it only once there is something to do

    view = make_view(how.as_json, "full" if how.show_line else how.ladder)
    if how.show_line:
        from .run_view import shown_passing

        job = shown_passing(job, view, how.as_json)
    run = Run(job, AT_THE_TERMINAL, how.trace, recorded)
    interrupts = interrupts or Interrupts()
    status = follow(run, view, interrupts)
    if at_the_end is not None and status == 0:
        at_the_end(run)
    if not how.listen or status:
        return status
    if interrupts.heard:  # too late for the upload, early enough for the console
        if run.outcome.link is not None:
            run.outcome.link.close()
        return status
    from .listen import go_on_listening

    return go_on_listening(run, how, program, listens_until)


def follow(run: Run, view: View, interrupts: Interrupts | None = None) -> int:
    """Show a run to its end. Returns the exit status."""
    interrupts = interrupts or Interrupts()
    chip: StepEnded | None = None
    status = 0
    with interrupts.caught():
        try:
            for event in run.events(interrupts):
                if isinstance(event, StepEnded) and event.step == "chip" and event.outcome == "green":
                    chip = event
                if isinstance(event, RunEnded):
                    status = event.exit_code
                    if event.exit_code == 0 and run.job.purpose == "greet" and chip is not None:
                        view.details(_rows(chip))
                view = _shown(view, event)
        finally:
            view.close()
    return status


def _shown(view: View, event: Event) -> View:
    """Show an event. If the reader of our output has gone (`| head`), or its disk is full, continue without: a chip
    is not left half written because nobody looks."""
    try:
        view.show(event)
        sys.stdout.flush()
    except BrokenPipeError:
        forget_output()
        return _Nobody()
    except OSError as error:
        forget_output()
        say(no_output(error), err=True)
        return _Nobody()
    return view


def no_output(error: OSError) -> str:
    """Why nothing more is to be read."""
    return f"the output cannot be written: {error.strerror or error}"


class _Nobody:
    """The view if nobody reads."""

    def show(self, event: Event) -> None:
        """Nothing."""

    def details(self, rows: list[tuple[str, str]]) -> None:
        """Nothing."""

    def close(self) -> None:
        """Nothing."""

    def passed(self, line: str) -> None:
        """Nothing."""


def forget_output() -> None:
    """Point standard output at nothing, so that buffered text has somewhere to go."""
    with Path(os.devnull).open("w") as nothing:
        os.dup2(nothing.fileno(), sys.stdout.fileno())


def _rows(chip: StepEnded) -> list[tuple[str, str]]:
    """What the chip reported, by the names that its dialect gives it."""
    figures = dict(chip.figures)
    rows = [("part", str(figures.pop("part")))] if "part" in figures else []
    if "ident" in figures:
        rows.append(("id", str(figures.pop("ident"))))
    for name, key in (("flash", "flash_bytes"), ("RAM", "ram_bytes")):
        if key in figures:
            rows.append((name, show_size(int(figures.pop(key)))))
    return rows + [(key.replace("_", " "), str(value)) for key, value in figures.items()]
