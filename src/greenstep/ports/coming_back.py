"""A port that disappears and comes back, perhaps under another name: a board that is its own USB device."""

from __future__ import annotations

from collections.abc import Callable

from .discovery import PortInfo, known_by

LONGEST_S = 8.0
_POLL_S = 0.1
_GOES_WITHIN_S = 3.0
_SETTLES_S = 0.3
"""The system gives a new node its owner and mode a moment after it appears."""


class ComingBack:
    """Waits for the port `name`, recognised by the device it had when this was made. `look` lists the ports."""

    def __init__(
        self, name: str, look: Callable[[], list[PortInfo]], now: Callable[[], float], sleep: Callable[[float], None]
    ) -> None:
        self._name = name
        self._look, self._now, self._sleep = look, now, sleep
        self._before = {port.name: port for port in look()}
        self.gone = False
        """Whether it was seen to disappear."""

    def wait(self) -> str | None:
        """The name under which it is back; the old one if it never disappeared; None if it does not come back."""
        if self._name not in self._before:  # a port that is never listed, such as a pseudo terminal
            self._sleep(_GOES_WITHIN_S)
            return self._name
        began = self._now()
        while self._now() < began + LONGEST_S:
            ports = {port.name: port for port in self._look()}
            self.gone = self.gone or self._name not in ports
            if not self.gone and self._now() >= began + _GOES_WITHIN_S:
                return self._name
            found = self._found(ports) if self.gone else None
            if found is not None:
                self._sleep(_SETTLES_S)
                return found
            self._sleep(_POLL_S)
        return None

    def _found(self, ports: dict[str, PortInfo]) -> str | None:
        """The same place on the USB, the same serial number, or the only new port."""
        mine = self._before.get(self._name)
        if mine is not None and mine.location:
            place = mine.location.partition(":")[0]
            same = [p.name for p in ports.values() if p.location.partition(":")[0] == place]
            if same:
                return same[0]
        known = known_by(mine) if mine is not None else None
        if known is not None and known.serial:
            same = [p.name for p in ports.values() if p.serial == known.serial]
            if same:
                return same[0]
        new = [name for name in ports if name not in self._before]
        if self._name in ports:
            return self._name
        return new[0] if len(new) == 1 else None
