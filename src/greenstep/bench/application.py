"""The application in a simulated chip's flash: it prints the text in its own image, and answers lines.

The sample images hold `MARK`, a text and a NUL. What the flash does not hold cannot be heard.
"""

from __future__ import annotations

from collections.abc import Generator

from greenstep.core.link import LineSettings

from .chip import TIMED_OUT, SimulatedChip, Spend, Take, Wish
from .faults import Faults

MARK = b"\x01says\x02"
START_UP_S = 0.04


def run(chip: SimulatedChip, flash: bytes, settings: LineSettings, faults: Faults) -> Generator[Wish, int, None]:
    """Start up, print the text three times, each time half a second after the last byte heard, and answer each line
    of readable text."""
    text = faults.says.encode() or text_in(flash)
    chip.settings = settings if faults.console is None else LineSettings(faults.console, settings.frame)
    yield Spend(START_UP_S)
    if not text:
        yield from idle(1e9)
    line = bytearray()
    for _ in range(3):
        chip.send(text + b"\r\n")
        while (value := (yield Take(0.5))) != TIMED_OUT:
            _answer(chip, line, value)
    while True:
        _answer(chip, line, (yield Take()))


def _answer(chip: SimulatedChip, line: bytearray, value: int) -> None:
    """Take a character; if it ends a line, say what was understood, and ask for another."""
    if value < 0:
        return
    line.append(value)
    if line.endswith(b"\r\n"):
        said = bytes(line[:-2])
        if said and said.isascii() and said.decode().isprintable():
            chip.send(b"taken: " + said + b"\r\nnext? ")
        line.clear()


def idle(seconds: float) -> Generator[Wish, int, None]:
    """An application that ignores what it receives."""
    yield Spend(0.0)
    while (yield Take(seconds)) >= -1:
        pass


def text_in(flash: bytes) -> bytes:
    """The text in the flash; empty if there is none."""
    at = flash.find(MARK)
    if at < 0:
        return b""
    return flash[at + len(MARK) : flash.find(b"\x00", at)]
