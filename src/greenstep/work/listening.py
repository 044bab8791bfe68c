"""Hearing an application: the port as its console needs it, the rate at which its text is readable, and its lines."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from greenstep.core.console.streams import Expectation, LineSplitter, readable
from greenstep.core.errors import StartFault, usage
from greenstep.core.frozen import frozen
from greenstep.core.hookup.drive import Driver
from greenstep.core.link import LineSettings, Link
from greenstep.core.plan.write_options import LINE_ENDS
from greenstep.core.quantities import show_heard
from greenstep.core.safety.secrets import Secrets
from greenstep.core.survey.heard import RateTried
from greenstep.core.survey.heard import find_rate as tried_rates

from .board import Board, frame_of
from .port_choice import link_faults, open_board_port, port_name
from .prompter import NON_INTERACTIVE, Prompter, pins_of

if TYPE_CHECKING:
    from greenstep.core.hookup.circuits import Hookup
    from greenstep.core.hookup.other_pins import OutsidePins

_RATE_LISTEN_S = 1.5
_SLICE_S = 0.02


@frozen
class ConsolePort:
    """An open line to an application. `hookup` is None if no chip is given; `lines` are DTR and RTS as it needs
    them."""

    link: Link
    port: str
    hookup: Hookup | None
    lines: tuple[bool, bool] = (False, False)
    pins: OutsidePins | None = None

    def reset(self) -> None:
        """Reset into the application, if the hookup has a way."""
        if self.hookup is not None:
            self.link.discard()
            Driver(self.link, self.hookup, self.pins).leave()


@contextmanager
def open_console(
    board: Board,
    prompter: Prompter,
    resets: bool,
    lasts: bool,
    trace: Path | None = None,
    secrets: Secrets | None = None,
) -> Iterator[ConsolePort]:
    """The board's port with its pins as the application needs them; closed at the end. `resets`: it is going to be
    reset. `lasts`: the caller goes on listening.

    Raises PortFault, and UsageFault if a reset is wanted and the hookup has no way to do it.
    """
    settings = board.settings
    hookup = board.hookup if settings.chip or resets else None
    if resets and hookup is not None and hookup.leave is None:
        raise usage("no-reset", f"the hookup {hookup.name} has no line that resets", "press reset by hand")
    line = LineSettings(settings.console_baud or settings.rate or 115200, frame_of(settings.frame))
    lines = hookup.idle_lines if hookup else (False, False)
    link = open_board_port(board, line, lines, prompter, trace, secrets, lasts).link
    pins = pins_of(board) if resets else None
    try:
        with link_faults(board):
            yield ConsolePort(link, port_name(settings.port), hookup if resets else None, lines, pins)
    finally:
        link.close()
        if pins is not None:
            pins.close()


def find_rate(console: ConsolePort, show: Callable[[RateTried], None]) -> RateTried:
    """The rate at which the text is readable, each shown as it is tried; the line stays at it. Raises StartFault if
    there is none."""
    best: RateTried | None = None
    for tried in tried_rates(console.link, console.link.settings, _RATE_LISTEN_S, stir=console.reset):
        show(tried)
        if tried.reads:
            return tried
        best = tried if best is None or tried.score > best.score else best
    silent = best is None or not best.data
    raise StartFault.of(
        "silent-application" if silent else "no-rate-reads",
        "nothing was heard at any rate" if silent else "what is heard is readable at no rate",
        () if best is None or silent else (f"best at {best.settings}: {show_heard(best.data)}",),
        (
            "reset the board meanwhile, by hand or with --reset: most programs talk only at their start",
            "check the wire from the chip's TX to the adapter's RX, and ground",
        ),
        "possible",
    )


@frozen
class HeardLine:
    """A line of the application without its end, complete `at_s` seconds after listening began."""

    at_s: float
    text: str


def heard_lines(
    board: Board, seconds: float | None, expect: str, reset: bool, send: Sequence[str]
) -> Iterator[HeardLine]:
    """What `Board.listen` gives. Raises PortFault, StartFault, UsageFault."""
    with open_console(board, NON_INTERACTIVE, reset, seconds is None) as console:
        link, lines, expectation = console.link, LineSplitter(), Expectation(expect)
        if reset:
            console.reset()
        began_s, heard = link.now(), b""
        for line in send:
            link.write(line.encode() + LINE_ENDS[board.settings.line_end or "crlf"])
        while not (expect and expectation.found):
            if seconds is not None and link.now() - began_s >= seconds:
                break
            data = link.read(1, _SLICE_S)
            data += link.discard() if data else b""
            heard = (heard + data)[-200:]
            expectation.feed(data)
            yield from (HeardLine(link.now() - began_s, readable(line)) for line in lines.feed(data))
        if lines.partial:
            yield HeardLine(link.now() - began_s, readable(lines.partial))
        if expect and not expectation.found:
            raise StartFault.of(
                "text-not-heard",
                f'"{expect}" was not heard within {seconds:g} s',
                (f"heard {show_heard(heard) if heard else 'nothing'}",),
                ("is this its rate?", "does it come later? give it longer"),
            )
