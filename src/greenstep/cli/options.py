"""The options that describe a board: each named like its key in greenstep.toml, with an environment variable; and
from their words to what is said about a board."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import fields
from functools import wraps
from pathlib import Path
from typing import Any, TypeVar

import click

from greenstep.core.frozen import frozen
from greenstep.core.quantities import parse_engineering, parse_number
from greenstep.store.board import FASTEST, BoardSettings, PortChoice
from greenstep.store.board_keys import KEYS, Form, Key, joined
from greenstep.store.board_words import (
    by_hand_arguments,
    file_argument,
    hookup_argument,
    image_option,
    keep_argument,
    set_argument,
    talk_argument,
)

from .completion import COMPLETERS
from .fault_view import faults_as_asked

_WORDS: dict[str, Callable[[str], Any]] = {
    "port": lambda text: PortChoice(name=text),
    "hookup": hookup_argument,
    "keep": keep_argument,
    "elf": file_argument,
    "talk": talk_argument,
}
"""How an option's text becomes a value, if it is not one already."""


def settings_from_options(options: Mapping[str, Any]) -> BoardSettings:
    """What the options of a command say, by their names. Raises UsageFault."""
    values: dict[str, Any] = {}
    for key in KEYS:
        said, of = options.get(key.name), _WORDS.get(key.name)
        if key.repeats:
            values[key.name] = tuple(of(word) if of else word for word in said or ()) or None
        else:
            values[key.name] = of(said) if of and said else said
    values["port"] = values["port"] or None
    for name, memory in (("images", "flash"), ("eeprom", "eeprom")):
        values[name] = (
            tuple(image for text in options.get(name) or () for image in image_option(text, memory)) or None
        )
    values["by_hand"] = by_hand_arguments(options.get("by_hand") or ()) or None
    values["set"] = dict(set_argument(text) for text in options.get("set") or ()) or None
    return BoardSettings(**joined(values))


Command = TypeVar("Command", bound=Callable[..., Any])


@frozen
class How:
    """How a command is run and shown, besides what it is about. `project` is the project file if it is not the
    nearest; `trace` records the line. `listen`: stay on the line afterwards. `show_line`:
    bytes are shown as they go by. `ladder` None is short unless on a
    terminal."""

    as_json: bool = False
    project: Path | None = None
    trace: Path | None = None
    ladder: str | None = "full"
    listen: bool = False
    show_line: bool = False


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


class BootloaderRate(Whole):
    """A rate, or the word for the highest."""

    name = "rate"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if value == FASTEST:
            return value
        if isinstance(value, str) and not value.strip().isdecimal():
            self.fail(f"'{value}' is neither a rate in baud nor '{FASTEST}'", param, ctx)
        return super().convert(value, param, ctx)


_BOOTLOADER_RATE = BootloaderRate(50, 12_000_000)


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


def _with(options: tuple[Callable[[Command], Command], ...]) -> Callable[[Command], Command]:
    def decorate(command: Command) -> Command:
        for option in reversed(options):
            command = option(command)
        return command

    return decorate


def _of(key: Key) -> Callable[[Command], Command]:
    """The option for a key."""
    details: dict[str, Any] = {"help": key.help, "multiple": key.repeats}
    if key.form in _TYPES:
        details |= _TYPES[key.form](key)
    if key.metavar:
        details["metavar"] = key.metavar
    if key.choices:
        details["type"] = click.Choice(key.choices)
    if key.name == "also_accept":
        details["type"] = Hexadecimal()
    if key.name in _NO_VARIABLE:
        return click.option(key.option, **details)
    return _option(key.option, **details)


VARIABLES = {
    "GREENSTEP_JOURNAL": "the journal's file; `none` keeps none",
    "NO_COLOR": "no colours",
    "FORCE_COLOR": "colours although the output is no terminal",
}
"""Environment variables that stand for no option."""
_NO_VARIABLE = ("set", "talk", "by_hand")
"""Tables, which cannot be values of environment variables."""
_TYPES: dict[Form, Callable[[Key], dict[str, Any]]] = {
    Form.RATE: lambda key: {"type": _BOOTLOADER_RATE if key.name == "baud" else RATE},
    Form.NUMBER: lambda key: {"type": Number()},
    Form.SECONDS: lambda key: {"type": Real(*key.bounds)},
    Form.TRUTH: lambda key: {"default": None, "multiple": False},
}
_OPTIONS: dict[str, Callable[[Any], Any]] = {key.name: _of(key) for key in KEYS}


def _keys(*names: str) -> Callable[[Command], Command]:
    """The options for these keys."""
    return _with(tuple(_OPTIONS[name] for name in names))


_GENERAL = (
    click.option("--json", "as_json", is_flag=True, help="One event per line, for programs."),
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
    help="All steps (default on a terminal), or what was done to the chip (default in a log); a failure shows all.",
)
show_line_option: Callable[[Command], Command] = click.option(
    "--show-line", is_flag=True, help="Show the bytes as they go by."
)
trace_option: Callable[[Command], Command] = click.option(
    "--trace",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Record the line: a value change dump (VCD).",
)


_LINE, _PINS = ("port", "baud", "frame"), ("hookup", "enter", "leave", "by_hand")
_ASKING = ("patience", "dialect", "set", "also_accept")
board_options = _keys("chip", *_LINE, *_PINS, *_ASKING)
wired_options = _keys("chip", *_PINS)
"""A chip and how its pins are reached, where no port is opened."""
open_options = _keys("chip", *_LINE, *_PINS)
"""The same and a port, if no bootloader is asked."""
chip_options = _keys("chip", "dialect")
"""A chip as data, for looking at images."""
set_option = _keys("set")
room_options = _keys("bootloader_bytes", "keep")
"""Parts of the flash that are not for images."""
clock_options = _keys("chip", "baud", "frame", "dialect")
batch_board_options = _keys("chip", "baud", "frame", *_PINS, *_ASKING)
"""A board whose ports are named separately."""
image_options = _keys("images", "eeprom", "keep", "bootloader_bytes", "erase", "even_if")
looked_at_options = _keys("images", "eeprom", "bootloader_bytes", "even_if")
"""What a verify compares: nothing is erased or kept."""
written_options = _keys("images", "eeprom", "bootloader_bytes", "erase", "even_if")
"""What a restore writes, and what the time of an upload depends on: nothing is kept."""
sparing_options = _keys("compare", "verify", "start")
"""What may be skipped in an upload."""
start_options = _keys("expect", "expect_within", "console_baud")
wait_option = _keys("wait")
talk_options = _keys("talk", "line_end")
line_end_option = _keys("line_end")
elf_option = _keys("elf")
every_key_options = _keys(*_OPTIONS)
"""All that can be said about a board."""
region_options = _with(
    (
        click.option("--from", "region_from", type=Number(), metavar="ADDRESS", help="Where it begins. [the start]"),
        click.option("--size", "region_size", type=Number(), metavar="SIZE", help="How many bytes. [to the end]"),
    )
)
_COLLECTED = frozenset(key.name for key in KEYS)


def collected(command: Callable[..., int]) -> Callable[..., int]:
    """The command is called with `said`, everything that options say about the board, and with `how`; its faults are
    shown in the requested way. Must be the innermost decorator."""

    @wraps(command)
    def run(**values: Any) -> int:
        how = How(**{field.name: values.pop(field.name) for field in fields(How) if field.name in values})
        of_board = {name: values.pop(name) for name in _COLLECTED & values.keys()}
        with faults_as_asked(how.as_json):
            return command(settings=settings_from_options(of_board), how=how, **values)

    return run


def general_options(command: Callable[..., int]) -> Callable[..., int]:
    """What every command about a board takes, collected."""
    return _with(_GENERAL)(collected(command))
