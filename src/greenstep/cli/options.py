"""The options that describe a board: each of the name of its key in greenstep.toml, each with an environment
variable of that name."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import click

from greenstep.core.quantities import parse_engineering, parse_number
from greenstep.core.wishes import DESPITE

from .completing import COMPLETERS

Command = TypeVar("Command", bound=Callable[..., Any])


class Number(click.ParamType):  # type: ignore[type-arg]
    """A whole number: 4096, 0x1000 or 4K."""

    name = "number"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> int:
        if isinstance(value, int):
            return value
        try:
            return parse_number(str(value))
        except ValueError as error:
            self.fail(str(error), param, ctx)


class Engineering(click.ParamType):  # type: ignore[type-arg]
    """A value with the prefix of its unit: 10k, 100n, 16M."""

    def __init__(self, unit: str) -> None:
        self.name = unit
        self._unit = unit

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> float:
        if isinstance(value, float):
            return value
        try:
            return parse_engineering(str(value), self._unit)
        except ValueError as error:
            self.fail(str(error), param, ctx)


class Whole(click.IntRange):
    """A range that is checked, and not printed in the help."""

    def _describe_range(self) -> str:
        return ""


class Real(click.FloatRange):
    """The same for numbers with a fraction."""

    def _describe_range(self) -> str:
        return ""


RATE = Whole(50, 12_000_000)


class Hexadecimal(click.ParamType):  # type: ignore[type-arg]
    """A chip's number, in hexadecimal with or without 0x."""

    name = "hex"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> int:
        try:
            return value if isinstance(value, int) else int(str(value), 16)
        except ValueError:
            self.fail(f"'{value}' is not a hexadecimal number", param, ctx)


def _option(*names: str, **details: Any) -> Callable[[Command], Command]:
    variable = "GREENSTEP_" + names[0].strip("-").partition("/")[0].upper().replace("-", "_")
    return click.option(*names, envvar=variable, shell_complete=COMPLETERS.get(names[0]), **details)


_CHIP = (_option("--chip", metavar="NAME", help="The chip, such as atmega328p, stm32f103c8, or a family: stm32."),)
_LINE = (
    _option(
        "--port", metavar="PORT", help="Device, URL or name given by spot: /dev/ttyUSB0, COM3, rfc2217://host:port."
    ),
    _option("--baud", type=RATE, metavar="RATE", help="Rate of the bootloader."),
    _option("--frame", metavar="FRAME", help="Data bits, parity, stop bits, where not the dialect's: 8N1, 8E1."),
)
_PINS = (
    _option(
        "--hookup",
        metavar="NAME|TABLE",
        help="How DTR and RTS reach reset and boot: by-hand, cap-dtr, cap-rts, cross-pair, direct-dtr-reset, "
        "direct-rts-reset, dtr-reset, rts-reset, usb-touch, or a table (docs/hookups.md).",
    ),
    _option("--enter", metavar="SEQUENCE", help='Moves into the bootloader: "boot on; reset on; wait 50 ms; …".'),
    _option("--leave", metavar="SEQUENCE", help="Moves that start the application."),
)
_ASKING = (
    _option("--patience", type=Real(0, 3600), metavar="SECONDS", help="How long to keep asking for sync."),
    _option("--dialect", metavar="NAME", help="The bootloader's protocol, where it is not the chip's usual one."),
    click.option(
        "--set", multiple=True, metavar="NAME=VALUE", help="A setting of the dialect (greenstep chips DIALECT)."
    ),
    _option("--also-ident", type=Hexadecimal(), multiple=True, help="Accept a chip that answers with this number."),
)

_IMAGES = (
    _option("--images", multiple=True, metavar="'FILE [at ADDRESS]'", help="An image, as if named as an argument."),
    click.option("--eeprom", multiple=True, metavar="'FILE [at ADDRESS]'", help="An image for the EEPROM."),
    _option(
        "--keep",
        multiple=True,
        metavar="FROM:SIZE",
        help="Room that must survive: read before it is erased, and written back.",
    ),
    _option("--bootloader-bytes", type=Number(), metavar="SIZE", help="Room of the bootloader at the top of flash."),
    _option(
        "--erase",
        type=click.Choice(["touched", "all"]),
        help="Erase what the image touches (the usual), or the whole flash.",
    ),
    _option("--despite", multiple=True, type=click.Choice(DESPITE), help="Go past this refusal."),
)

_SPARING = (
    _option(
        "--compare/--no-compare",
        default=None,
        help="Write only what differs from what the chip holds (the usual), or everything.",
    ),
    _option(
        "--trust-journal/--no-trust-journal",
        default=None,
        help="Take what the chip holds from the journal, where the chip's own number and a sample agree.",
    ),
    _option(
        "--verify/--no-verify",
        default=None,
        help="Read back what was written (the usual), or leave it unproven.",
    ),
    _option("--start/--no-start", default=None, help="Start the application at the end (the usual), or not."),
)

_START = (
    _option("--expect", metavar="TEXT", help="Text the application prints: it proves that it runs."),
    _option("--expect-within", type=Real(0.1, 3600), metavar="SECONDS", help="How long to wait for it. [5]"),
    _option("--console-baud", type=RATE, metavar="RATE", help="Rate of the application."),
)

_LINE_END = (
    _option("--line-end", type=click.Choice(["crlf", "lf", "cr", "none"]), help="What ends a line sent. [crlf]"),
)

_TALK = (
    click.option(
        "--talk",
        multiple=True,
        metavar="TURN",
        help='After the start: \'{ expect = "name?", send = "hive-7" }\'; secret = "VARIABLE" in place of send.',
    ),
)

_GENERAL = (
    click.option("--json", "as_json", is_flag=True, help="One event a line, for programs."),
    click.option(
        "--project",
        type=click.Path(path_type=Path, dir_okay=False),
        envvar="GREENSTEP_PROJECT",
        metavar="FILE",
        help="The project file, if not the nearest greenstep.toml.",
    ),
)


ladder_option: Callable[[Command], Command] = _option(
    "--ladder",
    type=click.Choice(["short", "full"]),
    help="All rungs (the usual on a terminal), or what was done to the chip (in a log); a failure shows all.",
)
trace_option: Callable[[Command], Command] = click.option(
    "--trace",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Record the line: a value change dump (VCD).",
)


def _with(options: tuple[Callable[[Command], Command], ...]) -> Callable[[Command], Command]:
    def decorate(command: Command) -> Command:
        for option in reversed(options):
            command = option(command)
        return command

    return decorate


board_options = _with((*_CHIP, *_LINE, *_PINS, *_ASKING))
wired_options = _with((*_CHIP, *_PINS))
"""A chip and how its pins are reached, where no port is opened."""
open_options = _with((*_CHIP, *_LINE, *_PINS))
"""The same and a port, where nothing is asked of a bootloader."""
chip_options = _with((*_CHIP, _ASKING[1]))
"""A chip as data, for looking at images."""
set_option = _with(_ASKING[2:3])
room_options = _with((_IMAGES[3], _IMAGES[2]))
"""Room of the flash that is not for images."""
clock_options = _with((*_CHIP, *_LINE[1:], *_ASKING[1:2]))
batch_board_options = _with((*_CHIP, *_LINE[1:], *_PINS, *_ASKING))
"""A board whose ports are named apart."""
image_options = _with(_IMAGES)
sparing_options = _with(_SPARING)
"""What of an upload may be left out."""
start_options = _with(_START)
talk_options = _with((*_TALK, *_LINE_END))
line_end_option = _with(_LINE_END)
region_options = _with(
    (
        click.option("--from", "region_from", type=Number(), metavar="ADDRESS", help="Where it begins. [the start]"),
        click.option("--size", "region_size", type=Number(), metavar="SIZE", help="How many bytes. [to the end]"),
    )
)
general_options = _with(_GENERAL)
