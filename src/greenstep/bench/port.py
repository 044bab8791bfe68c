"""A simulated board inside the command itself: the board at a port written `bench:…`."""

from __future__ import annotations

import time

from greenstep.core.engine.job import OpenedPort
from greenstep.core.errors import PortFault
from greenstep.core.findings.port_rules import PortSeen, diagnose_port
from greenstep.core.link import LineSettings

from .address import BenchAddress, parse_address
from .chip_memory import load_chip, save_chip
from .faults import Faults
from .line import SimulatedLine
from .person import Hands, Watchful
from .virtual_link import VirtualLink

_ON_FOR_S = 10.0
"""A board entered by hand has been on for a while: a loader that runs after power-up is over."""


def open_bench(port: str, settings: LineSettings, lines: tuple[bool, bool], lasts: bool = False) -> OpenedPort:
    """Open a simulated board, which has just been powered up or holds what an earlier command left in its `memory`.
    `lasts`: the caller goes on listening, so its time is this computer's. Raises UsageFault, PortFault."""
    address = parse_address(port)
    if Faults.parse(address.faults).refuses(settings.baud):
        raise PortFault(diagnose_port(PortSeen(port, "setting", "", setting=str(settings))))
    line = address.board.build(Faults.parse(address.faults, address.seed), address.turnaround_s)
    line.chip.copy = address.seed
    if address.memory is not None:
        load_chip(address.memory, _kind(address), line.chip)
    link = BenchLink(line, settings, lines, address, lasts)
    return OpenedPort(link, f"simulated: {address.board.title}")


def _kind(address: BenchAddress) -> str:
    return address.board.name


class BenchLink(VirtualLink):
    """The board's line on its virtual clock, or at the pace of hardware; what the chip holds is saved at the end."""

    def __init__(
        self,
        line: SimulatedLine,
        settings: LineSettings,
        lines: tuple[bool, bool],
        address: BenchAddress,
        lasts: bool,
    ) -> None:
        self._address = address
        self._person = None if address.hands_s is None else Watchful(Hands(address.hands_s, habit=address.habit))
        on_for_s = address.on_for_s
        if on_for_s is None:
            on_for_s = 0.0 if self._person is None else _ON_FOR_S
        gone_s = None if address.gone_after_s is None else on_for_s + address.gone_after_s
        super().__init__(line, settings, lines, address.has_lines, gone_s, on_for_s)
        self._paced = lasts or address.real_pace
        self._real_s = time.monotonic() - self.now()

    def write(self, data: bytes) -> None:
        if self._person is not None:
            self._person.wrote(self.line, self.now())
        super().write(data)

    def read(self, size: int, timeout_s: float) -> bytes:
        if self._person is not None:
            self._person.looks(self.line, self.now())
        data = super().read(size, timeout_s)
        self._keep_pace()
        return data

    def sleep(self, seconds: float) -> None:
        super().sleep(seconds)
        self._keep_pace()

    def _keep_pace(self) -> None:
        """At the pace of hardware: wait until this computer's clock has reached the board's."""
        if not self._paced:
            return
        ahead_s = self.now() - (time.monotonic() - self._real_s)
        if ahead_s > 0:
            time.sleep(ahead_s)
        else:  # the time that this computer needed for itself does not count
            self._real_s -= ahead_s

    def close(self) -> None:
        if self.closed:
            return
        super().close()
        if self._address.memory is not None:
            save_chip(self._address.memory, _kind(self._address), self.line.chip)
