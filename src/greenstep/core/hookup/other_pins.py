"""Pins that neither DTR nor RTS reaches: moved by a program (a relay, the power switch of a USB hub), or by a pin of
the computer that this runs on."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal, Protocol

from ..errors import check_keys, usage
from ..frozen import frozen
from ..link import LinkError

OutsidePin = Literal["reset", "boot", "power"]
OUTSIDE: tuple[OutsidePin, ...] = ("reset", "boot", "power")
_LEVEL_WORD = {"reset": "held", "boot": "selected", "power": "on"}
"""What the level of a computer's pin is called that means `on` in a sequence."""
_USUAL_LEVEL = {"reset": "low", "power": "high"}


@frozen
class ByProgram:
    """Programs with their arguments, run without a shell: the first when a sequence says `on`, the second when it
    says `off`."""

    run_on: tuple[str, ...]
    run_off: tuple[str, ...]

    def __str__(self) -> str:
        return f"a program ({self.run_on[0].replace(chr(92), '/').rpartition('/')[2]})"


@frozen
class ByGpio:
    """A pin of the computer's own: its chip, its number there, and whether high means `on`."""

    chip: str
    line: int
    on_is_high: bool

    def __str__(self) -> str:
        return f"{self.chip}:{self.line}"


Outside = ByProgram | ByGpio


class PinFailed(LinkError):
    """A pin could not be moved. `seen` is what came of it, `tries` what helps."""

    def __init__(self, pin: str, by: Outside, seen: str, tries: tuple[str, ...]) -> None:
        super().__init__(f"{pin} could not be moved by {by}: {seen}")
        self.pin, self.by, self.seen, self.tries = pin, by, seen, tries


class OutsidePins(Protocol):
    """What moves them."""

    def move(self, pin: OutsidePin, by: Outside, on: bool) -> None:
        """Raises PinFailed."""

    def close(self) -> None:
        """Let the computer's pins go."""


def is_outside(table: object) -> bool:
    """Whether a pin's table is about a program or a computer's pin."""
    return isinstance(table, Mapping) and bool(table.keys() & {"run_on", "run_off", "gpio"})


def runs_programs(hookup: object) -> bool:
    """Whether a hookup's table has a program in it."""
    if not isinstance(hookup, Mapping):
        return False
    return any(isinstance(table, Mapping) and table.keys() & {"run_on", "run_off"} for table in hookup.values())


def outside_from(pin: OutsidePin, table: object, boot_level: str, where: str) -> Outside:
    """From the table of a pin in a project file. Raises UsageFault."""
    level = _LEVEL_WORD[pin]
    if not isinstance(table, Mapping):
        raise usage("hookup", f"{where} is {table!r}", f'write {{ gpio = "gpiochip0:17", {level} = "low" }}')
    if table.keys() & {"run_on", "run_off"}:
        check_keys(table, ("run_on", "run_off"), where, "hookup")
        return ByProgram(_words(table, "run_on", where), _words(table, "run_off", where))
    check_keys(table, ("gpio", level), where, "hookup")
    name = table.get("gpio")
    chip, colon, number = name.rpartition(":") if isinstance(name, str) else ("", "", "")
    if not colon or not chip or not number.isdecimal():
        raise usage("hookup", f"{where}.gpio is {name!r}", 'write "gpiochip0:17"; gpioinfo lists them')
    at = table.get(level, _USUAL_LEVEL.get(pin) or boot_level or "low")
    if at not in ("low", "high"):
        raise usage("hookup", f"{where}.{level} is {at!r}", 'write "low" or "high"')
    return ByGpio(chip.rpartition("/")[2], int(number), at == "high")


def _words(table: Mapping[str, Any], key: str, where: str) -> tuple[str, ...]:
    words = table.get(key)
    if not isinstance(words, list | tuple) or not words or not all(isinstance(word, str) and word for word in words):
        told = 'a program and its arguments: ["relay", "1", "on"]'
        raise usage("hookup", f"{where}.{key} is {words!r}", f"write {told}")
    return tuple(words)
