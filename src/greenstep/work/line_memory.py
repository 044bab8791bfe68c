"""What a run remembers of its line, and what earlier ones remembered."""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING

from .board import Board
from .port_choice import BENCH
from .prompter import Prompter

if TYPE_CHECKING:
    from greenstep.core.engine.job import Job, RateMemory
    from greenstep.store.known_lines import Learnt, Line


class LineMemory:
    """The memory of one line's highest rate; trouble with the file is told, and stops nothing."""

    def __init__(self, board: str, chip: str, port: str, prompter: Prompter) -> None:
        self._board, self._chip, self._port, self._person = board, chip, port, prompter

    def at(self, port: str) -> LineMemory:
        """The same board's at another port."""
        return LineMemory(self._board, self._chip, port, self._person)

    @cached_property
    def line(self) -> Line:
        return line_at(self._board, self._chip, self._port)

    def known(self) -> int | None:
        from greenstep.store.known_lines import learnt_of

        found = learnt_of(self.line)
        return None if found is None else found.recent_baud

    def keep(self, baud: int) -> None:
        from greenstep.store.known_lines import keep_rate

        trouble = keep_rate(self.line, baud)
        if trouble:
            self._person.tell(f" the rate is not remembered: {trouble}")


def rates_at(job: Job, port: str) -> RateMemory | None:
    """The memory of a job's board at another port."""
    memory = job.rates
    return memory.at(port) if isinstance(memory, LineMemory) else memory


def adapter_at(port: str) -> str:
    """What identifies the adapter behind a port: its serial number, else its place on the USB, else its name."""
    if port.startswith(BENCH):
        return port.partition("?")[0]
    if "://" in port:
        return port
    from greenstep.ports.discovery import find_ports, known_by

    found = next((one for one in find_ports() if port in (one.name, one.by_id)), None)
    known = None if found is None else known_by(found)
    if known is None:
        return port
    return f"{known.usb} {known.serial or known.location}".strip()


def line_at(board: str, chip: str, port: str) -> Line:
    from greenstep.store.known_lines import Line

    return Line(board, chip, adapter_at(port))


def remember_hookup(job: Job, waited_s: float, prompter: Prompter) -> None:
    """How its bootloader was entered, after it answered."""
    from greenstep.store.known_lines import keep_hookup

    by_hand = job.hookup.enter is None
    trouble = keep_hookup(
        line_at(job.board, job.choice.name, job.port), job.hookup.name, round(waited_s, 1) if by_hand else 0.0
    )
    if trouble:
        prompter.tell(f" the hookup is not remembered: {trouble}")


def known_of(board: Board) -> Learnt | None:
    """What is known of a board's line: at its port if that has a name here, else the newest of all that have its
    name. Nothing of a board without either. Raises a fault if its chip is not known."""
    from greenstep.store.known_lines import learnt, learnt_of

    port = board.settings.port
    if port is not None and port.name:
        return learnt_of(line_at(board.name, board.choice.name, port.name))
    found = learnt(board.name, board.choice.name) if board.name else []
    return found[0] if found else None
