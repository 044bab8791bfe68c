"""A `Link` on a simulated line with a virtual clock: a whole upload in milliseconds, with exact times."""

from __future__ import annotations

from dataclasses import replace

from greenstep.core.link import LineErrors, LineSettings, LinesMissing, LinkLost, RateRefused

from .line import SimulatedLine

_AWAY_S, _STAYS_S = 1.2, 3.0
"""How long a board is away from the USB, and how long one that does not leave is waited for."""


class VirtualLink:
    """`has_lines` False is a port without DTR and RTS; `vanishes_at_s` is when the port disappears; `on_for_s` is how
    long the board has been running when the port is opened."""

    def __init__(
        self,
        line: SimulatedLine,
        settings: LineSettings,
        lines: tuple[bool, bool] = (False, False),
        has_lines: bool = True,
        vanishes_at_s: float | None = None,
        on_for_s: float = 0.0,
    ) -> None:
        self.line = line
        self._clock = on_for_s
        self._has_lines = has_lines
        self._vanishes_at_s = vanishes_at_s
        self.closed = False
        self._settings = settings
        line.configure(0.0, self._made_of(settings))
        if has_lines:
            line.lines = lines
        line.power_on(0.0)
        line.advance(on_for_s)
        line.take(on_for_s, 1 << 30)  # nobody heard what was sent before the port was opened

    @property
    def settings(self) -> LineSettings:
        return self._settings

    def _made_of(self, settings: LineSettings) -> LineSettings:
        """What the adapter makes of them."""
        made = self.line.faults.made_of(settings.baud)
        return settings if made == settings.baud else replace(settings, baud=made)

    def _alive(self) -> None:
        if self._vanishes_at_s is not None and self._clock >= self._vanishes_at_s:
            raise LinkLost("the simulated cable was pulled")

    def configure(self, settings: LineSettings) -> None:
        self._alive()
        if self.line.faults.refuses(settings.baud):
            raise RateRefused(settings)
        self.sleep(max(0.0, self.line.written_by - self._clock))
        self._settings = settings
        self.line.configure(self._clock, self._made_of(settings))

    def write(self, data: bytes) -> None:
        self._alive()
        self.line.write(self._clock, data)

    def read(self, size: int, timeout_s: float) -> bytes:
        self._alive()
        end_s = self._clock + timeout_s
        gone_s = self._vanishes_at_s
        if size > 0:
            self._clock = self.line.settle(self._clock, end_s if gone_s is None else min(end_s, gone_s), size)
        data = self.line.take_settled(self._clock, size) if size > 0 else b""
        if len(data) < size:
            self._alive()
        return data

    def discard(self) -> bytes:
        self._alive()
        return self.line.take(self._clock, 1 << 30)

    def set_lines(self, dtr: bool, rts: bool) -> None:
        self._alive()
        if not self._has_lines:
            raise LinesMissing
        self.line.set_lines(self._clock, dtr, rts)

    def set_break(self, on: bool) -> None:
        self._alive()
        self.line.set_break(self._clock, on)

    def reopen(self, baud: int | None) -> bool:
        settings, lines = self._settings, self.line.lines
        if baud is not None:
            self.configure(replace(settings, baud=baud))
            self.set_lines(False, False)
        gone = self.line.hang_up(self._clock)
        self.sleep(_AWAY_S if gone else _STAYS_S)
        self.line.chip.leaving = False
        self.line.take(self._clock, 1 << 30)
        self._settings = settings
        self.line.configure(self._clock, self._made_of(settings))
        if self._has_lines:
            self.line.set_lines(self._clock, *lines)
        return bool(gone)

    def errors(self) -> LineErrors | None:
        return self.line.errors

    def now(self) -> float:
        return self._clock

    def sleep(self, seconds: float) -> None:
        self._clock += seconds
        self.line.advance(self._clock)

    def close(self) -> None:
        if not self.closed and self._has_lines:
            self.line.set_lines(self._clock, False, False)
        self.closed = True
