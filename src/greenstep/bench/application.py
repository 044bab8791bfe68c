"""The application in a simulated chip's flash: it prints the text that its own image carries.

The sample images hold `MARK`, a text and a NUL. What the flash does not hold cannot be heard.
"""

from __future__ import annotations

from collections.abc import Generator

from greenstep.core.link import LineSettings

from .chip import SimulatedChip, Spend, Take
from .faults import Faults

MARK = b"\x01says\x02"
START_UP_S = 0.04


def run(
    chip: SimulatedChip, flash: bytes, settings: LineSettings, faults: Faults
) -> Generator[Take | Spend, int, None]:
    """Start up, print the text three times, then listen to nothing."""
    text = faults.says.encode() or text_in(flash)
    chip.settings = settings if faults.console is None else LineSettings(faults.console, settings.frame)
    yield Spend(START_UP_S)
    for _ in range(3 if text else 0):
        chip.send(text + b"\r\n")
        yield from idle(0.5)
    while True:
        yield Take()


def idle(seconds: float) -> Generator[Take | Spend, int, None]:
    """An application that does not care for what it receives."""
    yield Spend(0.0)
    while (yield Take(seconds)) >= -1:
        pass


def text_in(flash: bytes) -> bytes:
    """The text that the flash carries; empty if it carries none."""
    at = flash.find(MARK)
    if at < 0:
        return b""
    return flash[at + len(MARK) : flash.find(b"\x00", at)]
