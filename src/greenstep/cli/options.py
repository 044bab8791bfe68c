"""The options that describe a board: each of the name of its key in greenstep.toml, each with an environment
variable of that name."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import click

from greenstep.core.quantities import parse_number

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


class _Whole(click.IntRange):
    """A range that is checked, and not printed in the help."""

    def _describe_range(self) -> str:
        return ""


class _Real(click.FloatRange):
    """The same for seconds."""

    def _describe_range(self) -> str:
        return ""


RATE = _Whole(50, 12_000_000)


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
    return click.option(*names, envvar=variable, **details)


_BOARD = (
    _option("--chip", metavar="NAME", help="The chip, such as atmega328p, stm32f103c8, or a family: stm32."),
    _option("--port", metavar="PORT", help="Device or URL: /dev/ttyUSB0, COM3, rfc2217://host:port."),
    _option("--baud", type=RATE, metavar="RATE", help="Rate of the bootloader."),
    _option(
        "--hookup",
        metavar="NAME|TABLE",
        help="How DTR and RTS reach reset and boot: by-hand, cap-dtr, cap-rts, cross-pair, direct-dtr-reset, "
        "direct-rts-reset, dtr-reset, rts-reset, or a table (docs/hookups.md).",
    ),
    _option("--enter", metavar="SEQUENCE", help='Moves into the bootloader: "boot on; reset on; wait 50 ms; …".'),
    _option("--leave", metavar="SEQUENCE", help="Moves that start the application."),
    _option("--patience", type=_Real(0, 3600), metavar="SECONDS", help="How long to keep asking for sync."),
    _option("--dialect", metavar="NAME", help="The bootloader's protocol, where it is not the chip's usual one."),
    _option("--frame", metavar="FRAME", help="Data bits, parity, stop bits, where not the dialect's: 8N1, 8E1."),
    _option("--also-ident", type=Hexadecimal(), multiple=True, help="Accept a chip that answers with this number."),
)

_IMAGES = (
    _option("--images", multiple=True, metavar="'FILE [at ADDRESS]'", help="An image, as if named as an argument."),
    click.option("--eeprom", multiple=True, metavar="'FILE [at ADDRESS]'", help="An image for the EEPROM."),
    _option("--keep", multiple=True, metavar="FROM:SIZE", help="Room that must survive: refuse what would touch it."),
    _option("--bootloader-bytes", type=Number(), metavar="SIZE", help="Room of the bootloader at the top of flash."),
    _option(
        "--erase",
        type=click.Choice(["touched", "all"]),
        help="Erase what the image touches (the usual), or the whole flash.",
    ),
    _option("--despite", multiple=True, type=click.Choice(["vectors"]), help="Go past this refusal."),
)

_START = (
    _option("--expect", metavar="TEXT", help="Text the application prints: it proves that it runs."),
    _option("--expect-within", type=_Real(0.1, 3600), metavar="SECONDS", help="How long to wait for it. [5]"),
    _option("--console-baud", type=RATE, metavar="RATE", help="Rate of the application."),
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


def _with(options: tuple[Callable[[Command], Command], ...]) -> Callable[[Command], Command]:
    def decorate(command: Command) -> Command:
        for option in reversed(options):
            command = option(command)
        return command

    return decorate


board_options = _with(_BOARD)
image_options = _with(_IMAGES)
start_options = _with(_START)
general_options = _with(_GENERAL)
