"""What comes before a console: its heading, the ELF file it is given, and how it gets its port back."""

from __future__ import annotations

import shutil
import sys
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from greenstep.core.link import LineSettings, Link
from greenstep.work.port_choice import BENCH

from .fault_lines import wrapped
from .line_editor import LEAVE_NAME
from .screen import say, say_all

if TYPE_CHECKING:
    from greenstep.work.board import Board
    from greenstep.work.program_on_board import ProgramFile
    from greenstep.work.run import Run

    from .console import ConsoleWishes
    from .options import How


def head_line(board: str, port: str, settings: LineSettings, wishes: ConsoleWishes) -> str:
    """The heading of a console: where it listens, and how to leave it."""
    parts = [board, port, str(settings)]
    if sys.stdin.isatty() and sys.stdout.isatty():
        parts.append(f"{LEAVE_NAME} leaves" if wishes.keys else f"{LEAVE_NAME} or Ctrl-C leaves")
    return "   ".join(part for part in parts if part)


def program_of(board: Board) -> ProgramFile | None:
    """The ELF file that the board names. Raises UsageFault."""
    if board.said.elf is None:
        return None
    from greenstep.work.program_on_board import ProgramFile

    return ProgramFile(board, board.said.elf)


def tell_doubts(wishes: ConsoleWishes) -> None:
    """Say at the beginning if the ELF file is not of what is on the board."""
    for text in wishes.program.news() if wishes.program is not None else ():
        if wishes.as_json:
            from .json_view import json_line

            json_line("doubt", text=text)
        else:
            say_all(wrapped(f"- {text}", shutil.get_terminal_size().columns, 2))


def go_on_listening(
    run: Run, how: How, program: ProgramFile | None = None, until: Callable[[], bool] | None = None
) -> int:
    """The console on the link of a run that ended well; nothing that came since the start is lost."""
    from .console import Console, ConsoleWishes

    job, link = run.job, run.outcome.link
    if link is None:  # nothing was opened
        return 0
    try:
        first = link.collected
        wishes = ConsoleWishes(line_end=job.line_end, as_json=how.as_json, secrets=job.secrets, program=program)
        if not how.as_json:
            say("", head_line("listening", "", link.settings, wishes))
        tell_doubts(wishes)
        again = opened_again(job.port, job.hookup.idle_lines, how.trace)
        plugged = plugged_again(job.port, job.hookup.idle_lines, how.trace)
        return Console(link, job.port, wishes, again, plugged, until).run(first)
    finally:
        link.close()


def _opened_again(port: str, lines: tuple[bool, bool], settings: LineSettings) -> Link:
    from greenstep.work.port_choice import open_again

    return open_again(port, settings, lines)


def opened_again(port: str, lines: tuple[bool, bool], trace: Path | None) -> Callable[[LineSettings], Link] | None:
    """How a console gets its port back; None where it is not given away: simulated, or being recorded."""
    return None if port.startswith(BENCH) or trace is not None else partial(_opened_again, port, lines)


def plugged_again(
    port: str, lines: tuple[bool, bool], trace: Path | None
) -> Callable[[LineSettings], Link | None] | None:
    """How a console finds its port after the plug was pulled; None where there is no plug, or a recording ends."""
    if port.startswith(BENCH) or trace is not None:
        return None
    from greenstep.work.plugging import PortAgain

    return PortAgain(port, lines).if_there
