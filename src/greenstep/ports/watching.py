"""Which port comes or goes while a person moves the plug."""

from __future__ import annotations

from collections.abc import Callable

from greenstep.core.frozen import frozen

from .discovery import PortInfo

_POLL_S = 0.2
_SETTLE_S = 0.6
"""A bridge with several ports shows them one after the other."""


@frozen
class Change:
    """Ports that came and ports that went."""

    came: tuple[PortInfo, ...]
    went: tuple[PortInfo, ...]

    @property
    def ports(self) -> tuple[PortInfo, ...]:
        return self.came or self.went


class Newcomers:
    """Reports which ports have appeared since the last question; one that disappeared may appear again."""

    def __init__(self, look: Callable[[], list[PortInfo]]) -> None:
        self._look = look
        self._there = {port.name for port in look()}

    def came(self) -> list[str]:
        """Names of the ports that are new, in order."""
        before, now = self._there, {port.name for port in self._look()}
        self._there = now
        return sorted(now - before)


def wait_for_change(
    look: Callable[[], list[PortInfo]],
    now: Callable[[], float],
    sleep: Callable[[float], None],
    longest_s: float | None,
) -> Change | None:
    """The first change of the list of ports, once it has settled; None if there is none in `longest_s`."""
    before = {port.name: port for port in look()}
    end_s = None if longest_s is None else now() + longest_s
    while end_s is None or now() < end_s:
        sleep(_POLL_S)
        if {port.name for port in look()} != before.keys():
            sleep(_SETTLE_S)
            after = {port.name: port for port in look()}
            change = Change(
                tuple(port for name, port in after.items() if name not in before),
                tuple(port for name, port in before.items() if name not in after),
            )
            if change.ports:
                return change
    return None
