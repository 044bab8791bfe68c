"""Moving pins that no serial port has: programs, run without a shell, and this computer's own pins, through gpiod."""

from __future__ import annotations

import contextlib
import subprocess
from pathlib import Path
from typing import Any

from greenstep.core.hookup.other_pins import ByGpio, ByProgram, Outside, OutsidePin, PinFailed

_LONGEST_S = 20.0
_TOLD = 200


class ComputerPins:
    """What is needed is taken when it is first moved, and let go at the end."""

    def __init__(self) -> None:
        self._requests: dict[tuple[str, int], Any] = {}

    def move(self, pin: OutsidePin, by: Outside, on: bool) -> None:
        if isinstance(by, ByProgram):
            _run(pin, by, by.run_on if on else by.run_off)
        else:
            self._drive(pin, by, on)

    def close(self) -> None:
        for request in self._requests.values():
            with contextlib.suppress(OSError):
                request.release()
        self._requests.clear()

    def _drive(self, pin: OutsidePin, by: ByGpio, on: bool) -> None:
        try:
            import gpiod
            from gpiod.line import Direction, Drive, Value
        except ImportError:
            advice = "pip install 'greenstep[gpio]' on this computer"
            raise PinFailed(pin, by, "the package gpiod is not installed", (advice,)) from None
        value = Value.ACTIVE if on else Value.INACTIVE
        place = (by.chip, by.line)
        try:
            if place not in self._requests:
                # a pin that is pulled low is let go to be high: something else may hold it low as well
                drive = Drive.PUSH_PULL if by.on_is_high else Drive.OPEN_DRAIN
                settings = gpiod.LineSettings(
                    direction=Direction.OUTPUT, drive=drive, active_low=not by.on_is_high, output_value=value
                )
                device = f"/dev/{by.chip}"
                self._requests[place] = gpiod.request_lines(device, consumer="greenstep", config={by.line: settings})
            else:
                self._requests[place].set_value(by.line, value)
        except (OSError, ValueError) as error:
            seen = getattr(error, "strerror", None) or str(error)
            tries = ("gpioinfo shows the pins, and who has them", "is this user in the group that owns the device?")
            raise PinFailed(pin, by, seen, tries) from error


def _run(pin: OutsidePin, by: ByProgram, words: tuple[str, ...]) -> None:
    """Raises PinFailed, with what the program said."""
    shown = " ".join(words)
    try:
        done = subprocess.run(words, stdin=subprocess.DEVNULL, capture_output=True, timeout=_LONGEST_S, check=False)
    except subprocess.TimeoutExpired:
        raise PinFailed(pin, by, f"{shown} took longer than {_LONGEST_S:g} s", ("run it by itself",)) from None
    except OSError as error:
        name = Path(words[0]).name
        tries = (f"is {name} installed, and may it be run?", "hookup in greenstep.toml names it")
        raise PinFailed(pin, by, f"{words[0]}: {error.strerror or error}", tries) from None
    if done.returncode:
        said = (done.stderr or done.stdout).decode("utf-8", "replace").strip()
        ended = f"{shown} ended with {done.returncode}{': ' if said else ''}{said[-_TOLD:]}"
        raise PinFailed(pin, by, ended, ("run it by itself",))
