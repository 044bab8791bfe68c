"""Board circuits: what DTR and RTS do to the pins reset and boot of a simulated board."""

from __future__ import annotations

from abc import ABC, abstractmethod

from greenstep.core.frozen import frozen


@frozen
class PinChange:
    """From `at_s` on, reset is held (or not) and boot selects the bootloader (or not)."""

    at_s: float
    reset_held: bool
    boot_selected: bool


class Circuit(ABC):
    """`hookup` is what a person would have to declare to reach these pins."""

    hookup: str

    @abstractmethod
    def moved(self, at_s: float, before: tuple[bool, bool], after: tuple[bool, bool]) -> list[PinChange]:
        """What follows when (DTR, RTS) go from `before` to `after`; True is asserted, which is 0 V."""


class DtrResetRtsBoot(Circuit):
    """DTR to a low-active reset, RTS to the boot pin, by wire: asserted RTS is low, which selects if `level` is
    low."""

    hookup = "dtr-reset-rts-boot"

    def __init__(self, level: str = "high") -> None:
        self._low = level == "low"

    def moved(self, at_s: float, before: tuple[bool, bool], after: tuple[bool, bool]) -> list[PinChange]:
        return [PinChange(at_s, after[0], after[1] == self._low)]


class RtsResetDtrBoot(Circuit):
    """RTS to a low-active reset, DTR to the boot pin, by wire: asserted DTR is low, which selects if `level` is
    low."""

    hookup = "rts-reset-dtr-boot"

    def __init__(self, level: str = "high") -> None:
        self._low = level == "low"

    def moved(self, at_s: float, before: tuple[bool, bool], after: tuple[bool, bool]) -> list[PinChange]:
        return [PinChange(at_s, after[1], after[0] == self._low)]


class CrossPair(Circuit):
    """Two transistors, bases and emitters crossed, low-active boot; reset rises slowly through its RC.

    With 10 kOhm and 1 uF, reset passes 0.75 Vcc 13.9 ms after its release (RC ln 4).
    """

    hookup = "cross-pair"
    RISE_S = 0.0139

    def __init__(self, level: str = "low", microfarad: float = 1.0) -> None:
        self._rise_s = self.RISE_S * microfarad
        self._selects = level == "low"  # it can only pull low

    def moved(self, at_s: float, before: tuple[bool, bool], after: tuple[bool, bool]) -> list[PinChange]:
        dtr, rts = after
        reset_held, boot = rts and not dtr, self._selects and dtr and not rts
        if reset_held:
            return [PinChange(at_s, True, boot)]
        was_held = before[1] and not before[0]
        if was_held:
            return [PinChange(at_s, True, boot), PinChange(at_s + self._rise_s, False, boot)]
        return [PinChange(at_s, False, boot)]


class CapacitorPulse(Circuit):
    """100 nF from one line to reset with a 10 kOhm pull-up: asserting it pulls reset low for about 0.3 RC."""

    PULSE_S = 0.0003

    def __init__(self, line: str = "dtr") -> None:
        self._index = 0 if line == "dtr" else 1
        self.hookup = f"cap-{line}"

    def moved(self, at_s: float, before: tuple[bool, bool], after: tuple[bool, bool]) -> list[PinChange]:
        if after[self._index] and not before[self._index]:
            return [PinChange(at_s, True, False), PinChange(at_s + self.PULSE_S, False, False)]
        return []


class UsbHangUp(Circuit):
    """A board that is its own USB device: DTR and RTS are messages to its program, and move no pin."""

    hookup = "usb-hangup"

    def moved(self, at_s: float, before: tuple[bool, bool], after: tuple[bool, bool]) -> list[PinChange]:
        return []


class NoLines(Circuit):
    """Three wires: neither DTR nor RTS reaches the chip."""

    hookup = "by-hand"

    def moved(self, at_s: float, before: tuple[bool, bool], after: tuple[bool, bool]) -> list[PinChange]:
        return []


CIRCUITS: dict[str, Circuit] = {
    circuit.hookup: circuit
    for circuit in (DtrResetRtsBoot(), RtsResetDtrBoot(), CrossPair(), CapacitorPulse("dtr"), CapacitorPulse("rts"))
}
"""The circuits that a bench board can have, by the hookup that reaches them."""
