"""A board's own moves run once, to reset it, and what is heard after them; and a port that is there only once the
board is plugged in: waiting for it, and finding it again."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

from greenstep.core.errors import Fault, PortFault
from greenstep.core.frozen import frozen
from greenstep.core.hookup.drive import Driver
from greenstep.core.hookup.sequence import Sequence
from greenstep.core.link import LineSettings, Link
from greenstep.core.survey.heard import Meaning, meaning_of
from greenstep.store.board import PortChoice

from .board import NO_PORT, Board
from .port_choice import BENCH, link_faults, loan_of, open_board_port, open_now, port_name
from .prompter import Prompter, pins_of

_LISTEN_S = 1.5


@frozen
class Moved:
    """What was run, and what was heard after it at `settings`. `lent`: a console lent its port, and hears the
    rest."""

    sequence: Sequence
    settings: LineSettings
    meaning: Meaning
    lent: bool = False


def moves_of(board: Board, into_loader: bool) -> Sequence | None:
    """The moves into the bootloader or into the application; None if a person does it."""
    return board.hookup.enter if into_loader else board.hookup.leave


def hand_moves_of(board: Board, into_loader: bool) -> tuple[str, ...]:
    """What a person does instead, in order."""
    return board.hands.enter if into_loader else board.hands.leave


def run_moves(board: Board, sequence: Sequence, prompter: Prompter, trace: Path | None = None) -> Moved:
    """Run the moves once and listen at the application's rate. Asks nothing and writes nothing. Raises PortFault."""
    settings = LineSettings(board.settings.console_baud or board.baud)
    loan = loan_of(port_name(board.settings.port), f"reset {board.name}".strip())
    pins = pins_of(board)
    lent, heard = loan is not None and loan.ask(), b""
    try:
        link = open_board_port(board, settings, board.hookup.idle_lines, prompter, trace).link
        try:
            with link_faults(board):
                link.discard()
                Driver(link, board.hookup, pins).run(sequence)
                heard = b"" if lent else link.read(400, _LISTEN_S)
                if loan is not None:
                    loan.tell("done", link.discard())
        finally:
            link.close()
    finally:
        if pins is not None:
            pins.close()
        if loan is not None:
            loan.give_back()
    return Moved(sequence, settings, meaning_of(heard, settings), lent)


_POLL_S, _SETTLES_S = 0.15, 0.8
"""The system gives a new port its owner and mode a moment after it appears."""


def wait_for_plug(board: Board, longest_s: float, tell: Callable[[str], None]) -> Board:
    """The board at the port that is plugged in from now on: the one that is named, else the first new one. Raises
    PortFault if none comes in time."""
    from greenstep.ports.discovery import Newcomers, find_ports

    wanted, end_s = board.settings.port, time.monotonic() + longest_s
    named = wanted is not None and wanted != PortChoice()
    name = _there(wanted) if wanted is not None and named else ""
    if name.startswith(BENCH) or "://" in name:
        return board
    tell(_asked(board, "Unplug it, and plug it in again" if name else "Plug it in now", longest_s))
    gone, newcomers = not name, Newcomers(find_ports)
    while time.monotonic() < end_s:
        time.sleep(_POLL_S)
        name = _there(wanted) if wanted is not None and named else next(iter(newcomers.came()), "")
        gone = gone or not name
        if name and gone:
            time.sleep(_SETTLES_S)
            return board.at_port(name)
    there = ", ".join(port.name for port in find_ports()) or "none"
    raise PortFault.of(
        "not-plugged",
        f"no port was plugged in within {longest_s:g} s",
        (f"ports: {there}",),
        ("another cable: many carry power only", "greenstep ports lists devices without a driver"),
    )


def _asked(board: Board, what: str, longest_s: float) -> str:
    """What to do: where hands select the bootloader, they must do so before the plug."""
    by_hand = bool(board.settings.chip) and not board.hookup.moves_boot and bool(board.choice.first.boot_level)
    held = [move for move in board.hands.enter if "reset" not in move and not move.startswith("let ")]
    first = f"First: {'; '.join(held)}. " if by_hand and held else ""
    return f"{first}{what}. Waiting {longest_s:g} s …"


def _there(wanted: PortChoice) -> str:
    """The port's name if it is there now, else an empty text."""
    try:
        name = port_name(wanted)
    except Fault:
        return ""
    return name if name.startswith(BENCH) or "://" in name or Path(name).exists() else ""


class PortAgain:
    """Opens a port again, as what it was when this was made: by its name, or by its adapter under another name."""

    def __init__(self, port: str, lines: tuple[bool, bool]) -> None:
        self._port, self._lines = port, lines
        self._serial = ""
        if port != NO_PORT and "://" not in port and not port.startswith(BENCH):
            from greenstep.ports.discovery import find_ports

            self._serial = next((one.serial for one in find_ports() if one.name == port), "")

    def if_there(self, settings: LineSettings) -> Link | None:
        """The open port; None if it is not there yet."""
        try:
            return open_now(self._now_called(), settings, self._lines)
        except PortFault:
            return None

    def _now_called(self) -> str:
        if not self._serial:
            return self._port
        from greenstep.ports.discovery import port_with_serial

        return port_with_serial(self._serial) or self._port
