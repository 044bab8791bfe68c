"""Running a climb: events to the view, Ctrl-C into the climb, an exit status out of it."""

from __future__ import annotations

import os
import signal
import sys
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from types import FrameType
from typing import TYPE_CHECKING, Any, Protocol

from greenstep.core.events import ClimbEnded, Event, StepEnded
from greenstep.core.quantities import show_size

from .faults import faults_as_asked
from .recording import Keeper

if TYPE_CHECKING:
    from greenstep.core.climb import Climb, Purpose
    from greenstep.store.board import BoardSettings


Settled = tuple[str, "BoardSettings"]
"""A board's name (empty where options alone describe it), and everything said of it."""


class View(Protocol):
    """Whoever shows events."""

    def show(self, event: Event) -> None: ...

    def details(self, rows: list[tuple[str, str]]) -> None: ...

    def close(self) -> None: ...


def make_view(as_json: bool, ladder: str | None = "full") -> View:
    """`ladder` is 'short' or 'full'; None is short where nobody watches."""
    if as_json:
        from .json_view import JsonView

        return JsonView()
    if ladder == "short" or (ladder is None and not sys.stdout.isatty()):
        from .short_view import ShortView

        return ShortView()
    from .ladder_view import LadderView

    return LadderView()


def climb_board(
    purpose: Purpose,
    words: tuple[str, ...],
    options: Mapping[str, Any],
    region: tuple[str, int | None, int | None] | None = None,
    at_the_end: Callable[[Climb], None] | None = None,
    as_it_was: bool = False,
    writes_only: bool = False,
    settled: Settled | None = None,
) -> int:
    """The common body of the commands that climb; `at_the_end` is called after a green one. `as_it_was`: what is
    written was read from a chip. `writes_only`: an unlock lifts the protection against writing.
    `settled`: the board where it is not to be found by `words`. Returns the exit
    status."""
    from .jobs import make_job
    from .port_choice import opener
    from .target import settle

    as_json, listens = bool(options["as_json"]), bool(options.get("listen"))
    with faults_as_asked(as_json):
        board, said = settled or settle(words, options)
        job = make_job(purpose, board, said, region)
        if as_it_was:
            job = replace(job, wishes=replace(job.wishes, as_it_was=True, keep=()))
        if writes_only:
            job = replace(job, wishes=replace(job.wishes, writes_only=True))
        if listens:
            job = replace(job, keeps_open=True)
        from greenstep.core.climb import Climb  # large: only once there is something to climb

        climb = Climb(job, opener(job, said, options.get("trace")))
        status = follow(climb, make_view(as_json, options.get("ladder", "full")), Keeper(climb))
        if at_the_end is not None and status == 0:
            at_the_end(climb)
        if not listens or status:
            return status
        from .console import go_on_listening

        return go_on_listening(climb, as_json)


class _Interrupts:
    """Ctrl-C and termination, delivered to the climb and nowhere else.

    While the climb runs they raise at once. While an event is being shown they wait until the climb is
    asked for its next one, so that it can always say in which state the chip is.
    """

    def __init__(self) -> None:
        self.inside = False
        self.pending = False

    def __call__(self, number: int, frame: FrameType | None) -> None:
        if self.inside:
            self.inside = False
            raise KeyboardInterrupt
        self.pending = True


@contextmanager
def _listening(interrupts: _Interrupts) -> Iterator[None]:
    numbers = (signal.SIGINT, signal.SIGTERM)
    try:
        before: dict[int, Any] = {number: signal.signal(number, interrupts) for number in numbers}
    except ValueError:  # not the main thread: signals go elsewhere anyway
        yield
        return
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


def follow(climb: Climb, view: View, keeper: Keeper | None = None) -> int:
    """Show a climb to its end, and keep it in the journal. Returns the exit status."""
    interrupts = _Interrupts()
    chip: StepEnded | None = None
    status = 0
    with _listening(interrupts):
        try:
            for event in _events(climb, interrupts):
                if isinstance(event, StepEnded) and event.step == "chip" and event.outcome == "green":
                    chip = event
                number = keeper.see(event) if keeper is not None else 0
                if isinstance(event, ClimbEnded):
                    event = replace(event, journal=number)
                    status = event.exit_code
                    if event.exit_code == 0 and climb.job.purpose == "greet" and chip is not None:
                        view.details(_rows(chip))
                view = _shown(view, event)
        finally:
            view.close()
    return status


def _shown(view: View, event: Event) -> View:
    """Show an event. Where the reader of our output has gone (`| head`), go on without: a chip is not left half
    written because nobody looks."""
    try:
        view.show(event)
        sys.stdout.flush()
    except BrokenPipeError:
        forget_output()
        return _Nobody()
    return view


class _Nobody:
    """The view when nobody reads."""

    def show(self, event: Event) -> None:
        """Nothing."""

    def details(self, rows: list[tuple[str, str]]) -> None:
        """Nothing."""

    def close(self) -> None:
        """Nothing."""


def forget_output() -> None:
    """Point standard output at nothing, so that what is still buffered has somewhere to go."""
    with Path(os.devnull).open("w") as nothing:
        os.dup2(nothing.fileno(), sys.stdout.fileno())


def _events(climb: Climb, interrupts: _Interrupts) -> Iterator[Event]:
    run = climb.run()
    throw: Callable[..., Event] = run.throw  # type: ignore[attr-defined]
    try:
        while True:
            pending, interrupts.pending = interrupts.pending, False
            interrupts.inside = True
            try:
                event = throw(KeyboardInterrupt()) if pending else next(run)
            finally:
                interrupts.inside = False
            yield event
    except StopIteration:
        return


def _rows(chip: StepEnded) -> list[tuple[str, str]]:
    names = {"part": "part", "ident": "id", "loader": "loader", "unique_id": "unique id", "commands": "commands"}
    names |= {"mac": "MAC", "flash_chip": "flash chip", "serial": "serial no.", "secure_boot": "secure boot"}
    names |= {"flash_encryption": "encryption", "family": "family"}
    rows = [(title, str(chip.figures[key])) for key, title in names.items() if key in chip.figures]
    if "flash_bytes" in chip.figures:
        rows.insert(2, ("flash", show_size(int(chip.figures["flash_bytes"]))))
    return rows
