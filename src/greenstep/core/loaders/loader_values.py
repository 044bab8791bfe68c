"""What a person says of the board that a loader is made for, and how it gets into the image."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import field

from ..chips.part import Part
from ..errors import usage
from ..frozen import frozen

LARGEST_ERROR = 0.025
"""Of a rate: half a bit in twenty, both ends together."""

_SHORTEST_TRIAL_S, _TRIAL_TICKS, _MOST_TICKS = 0.4, 16, 255


@frozen
class LoaderValues:
    """`clock` in Hz, `wait_s` from a reset to the application, 0 without end. Pins by the maker's names; empty: the
    loader's usual ones, and no pin that keeps it running."""

    clock: float | None
    baud: int
    wait_s: float
    tx: str = ""
    rx: str = ""
    pin: str = ""


@frozen
class Changed:
    """The board's bytes at the end of an image, and what the chip and the application must be like for it, each in
    words: a label, and what."""

    facts: bytes
    said: tuple[tuple[str, str], ...] = field(default=())


def half(value: int) -> bytes:
    return value.to_bytes(2, "little")


def word(value: int) -> bytes:
    return value.to_bytes(4, "little")


def with_bytes(facts: bytes, places: dict[int, bytes]) -> bytes:
    """The facts with other bytes at some places."""
    changed = bytearray(facts)
    for at, value in places.items():
        changed[at : at + len(value)] = value
    return bytes(changed)


def common(facts: bytes, part: Part, clock: float, baud: int, rate_base: int, wait_s: float) -> bytes:
    """What every loader tells of itself (docs/doorstep.md, "Hello")."""
    unit = int.from_bytes(facts[16:18], "little")
    loader_bytes = int.from_bytes(facts[14:16], "little") - int.from_bytes(facts[12:14], "little")
    top = part.flash.size // unit
    return with_bytes(
        facts,
        {
            4: word(part.ident),
            12: half(top - loader_bytes) + half(top),
            24: half(round(clock / 1000)) + word(baud) + word(rate_base),
            36: half(round(wait_s * 1000)),
        },
    )


def check_rate(baud: int, made: float, clock: float) -> str:
    """The rate that the clock makes, in words. Raises UsageFault if it is too far off."""
    error = made / baud - 1
    if abs(error) > LARGEST_ERROR:
        raise usage(
            "loader-rate", f"{clock / 1e6:g} MHz makes no {baud} baud: {made:.0f} is the nearest, {error:+.1%}",
            "another rate; `greenstep rates` lists what a clock makes",
        )  # fmt: skip
    return f"{baud} baud, {made:.0f} made ({error:+.1%})" if abs(error) > 0.0005 else f"{baud} baud"


def patience(clock: float, wait_s: float, dividers: Iterable[tuple[int, int]]) -> tuple[int, int]:
    """How a timer of 16 bits is set, and how often it overflows until the application is started. `dividers`: each
    with its setting, the smallest first; 16 overflows must also be long enough to try a rate. Raises UsageFault."""
    for divider, setting in dividers:
        tick_s = 65536 * divider / clock
        ticks = round(wait_s / tick_s)
        if tick_s * _TRIAL_TICKS >= _SHORTEST_TRIAL_S and ticks <= _MOST_TICKS:
            return setting, max(ticks, 1 if wait_s else 0)
    raise usage("loader-wait", f"{wait_s:g} s is longer than this clock can wait", "a shorter time")


def refuse_pin(name: str, chip: str, like: str) -> Exception:
    return usage("loader-pin", f"the {chip} has no pin '{name}' that this loader can use", f"write it like {like}")
