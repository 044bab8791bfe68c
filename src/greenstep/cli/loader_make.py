"""`greenstep loader make`"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

import click

from greenstep.core.quantities import show_engineering, show_size
from greenstep.store.board import BoardSettings

from .completing import complete_target
from .fault_lines import wrapped
from .image_edit import Saving, saving_options
from .image_target import looking_options
from .options import RATE, Engineering, How
from .screen import say, say_all

if TYPE_CHECKING:
    from greenstep.core.loaders import Made

_COLUMN = 14
_USUAL_BAUD, _USUAL_WAIT_S = 115200, 1.5


def _options(command: Callable[..., int]) -> Callable[..., int]:
    return saving_options(looking_options(command), required=False)


@click.command("make", short_help="A resident bootloader for a chip that has none, ready to be put in.")
@click.argument("target", nargs=-1, metavar="[BOARD]", shell_complete=complete_target)
@click.option(
    "--clock", type=Engineering("Hz"), metavar="FREQUENCY", help="What the chip runs at: 16M. [AVR and PIC: needed]"
)
@click.option("--baud", type=RATE, metavar="RATE", help=f"Its rate. [{_USUAL_BAUD}]")
@click.option("--wait", "listens_s", type=Engineering("s"), metavar="TIME",
              help="From a reset to the application: 0.1s to 60s, or 0s for ever. [1.5s]")  # fmt: skip
@click.option("--tx", metavar="PIN", help="Its TX, where that can be chosen. [the loader's usual one]")
@click.option("--rx", metavar="PIN", help="Its RX.")
@click.option("--pin", metavar="PIN", help="A pin that keeps it running while it is low at a reset.")
@click.option("--config-words", is_flag=True,
              help="PIC: put the configuration words that it needs into the file, for the programmer.")  # fmt: skip
@_options
def command(
    target: tuple[str, ...], clock: float | None, listens_s: float | None, tx: str | None, rx: str | None,
    pin: str | None, config_words: bool, flash_size: int | None, saving: Saving, said: BoardSettings, how: How,
) -> int:  # fmt: skip
    """Make a resident bootloader that speaks Doorstep for a chip, its clock, rate, waiting time and pins: an image to
    be put in once, by a programmer or by the bootloader that is there. After that `upload --dialect doorstep` needs
    neither. It is said which fuses the chip must have, and what the application must leave free.

    \b
    greenstep loader make --chip atmega328p --clock 16M --save loader.hex
    greenstep loader make --chip nrf51822 --tx P0.09 --rx P0.11 --wait 3s
    """
    from greenstep.core.loaders import make
    from greenstep.core.loaders.board_values import BoardValues

    from .image_edit import save_changed
    from .image_target import chosen_or_chip

    these = chosen_or_chip(target, said, how, flash_size)
    values = BoardValues(
        clock,
        these.board.said.rate or _USUAL_BAUD,
        _USUAL_WAIT_S if listens_s is None else listens_s,
        tx or "",
        rx or "",
        pin or "",
    )
    made = make(these.wanted_target().part, values)
    if config_words:
        made = made.with_config_words(values)
    if saving.file is not None:
        saving.check()
    if how.as_json:
        _as_json(made)
    else:
        say_all(_about(made, values.clock))
    if saving.file is None:
        return 0
    if not how.as_json:
        say()
    return save_changed(these, made.image, saving, how)


def _about(made: Made, clock: float | None) -> Iterator[str]:
    runs = f"   {show_engineering(clock, 'Hz')}" if clock else ""
    yield f"{made.part.title}   {show_size(made.part.flash.size)} flash{runs}   a bootloader that speaks Doorstep"
    yield ""
    for label, text in made.said:
        yield from wrapped(f" {label:<{_COLUMN - 1}}{text}", 100, _COLUMN)


def _as_json(made: Made) -> None:
    from .json_view import json_line

    region = made.part.flash.usable
    json_line(
        "loader-made",
        part=made.part.name,
        start=made.loader.at,
        bytes=made.loader.room,
        application_start=region.start,
        application_bytes=region.size,
        source=made.loader.source,
        notes={label.replace(" ", "_"): text for label, text in made.said},
    )
