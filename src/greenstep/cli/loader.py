"""`greenstep loader make` and `loader room`."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import click

from greenstep.core.quantities import count, show_address, show_bytes, show_engineering, show_size, show_span
from greenstep.store.board import BoardSettings

from .command_groups import HintingGroup
from .completion import complete_target
from .fault_view import wrapped
from .image_edit import Saving, saving_options
from .image_target import looking_options
from .options import RATE, Engineering, How, Number
from .screen import say, say_all

if TYPE_CHECKING:
    from greenstep.core.families.room import Reservation
    from greenstep.core.loaders.images import Made


_COLUMN = 14
_USUAL_BAUD, _USUAL_WAIT_S = 115200, 1.5


class _LoaderCommands(HintingGroup):
    called = "greenstep loader"


@click.group("loader", cls=_LoaderCommands, short_help="A resident bootloader: made, and its room.")
def loader_command() -> None:
    """Resident bootloaders: those that stand in the flash themselves, beside the application."""


def _options(command: Callable[..., int]) -> Callable[..., int]:
    return saving_options(looking_options(command), required=False)


@loader_command.command("make", short_help="A resident bootloader for a chip that has none, ready to be put in.")
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
def make_command(
    target: tuple[str, ...], clock: float | None, listens_s: float | None, tx: str | None, rx: str | None,
    pin: str | None, config_words: bool, flash_size: int | None, saving: Saving, settings: BoardSettings, how: How,
) -> int:  # fmt: skip
    """Make a resident bootloader that speaks Doorstep for a chip, its clock, rate, waiting time and pins: an image to
    be put in once, by a programmer or by the bootloader that is there. After that `upload --dialect doorstep` needs
    neither. It is said which fuses the chip must have, and what the application must leave free.

    \b
    greenstep loader make --chip atmega328p --clock 16M --save loader.hex
    greenstep loader make --chip nrf51822 --tx P0.09 --rx P0.11 --wait 3s
    """
    from greenstep.core.loaders.images import make
    from greenstep.core.loaders.loader_values import LoaderValues

    from .image_edit import save_changed
    from .image_target import chosen_or_chip

    these = chosen_or_chip(target, settings, how, flash_size)
    values = LoaderValues(
        clock,
        these.board.settings.rate or _USUAL_BAUD,
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
        _made_as_json(made)
    else:
        say_all(_about_made(made, values.clock))
    if saving.file is None:
        return 0
    if not how.as_json:
        say()
    return save_changed(these, made.image, saving, how)


def _about_made(made: Made, clock: float | None) -> Iterator[str]:
    runs = f"   {show_engineering(clock, 'Hz')}" if clock else ""
    yield f"{made.part.title}   {show_size(made.part.flash.size)} flash{runs}   a bootloader that speaks Doorstep"
    yield ""
    for label, text in made.said:
        yield from wrapped(f" {label:<{_COLUMN - 1}}{text}", 100, _COLUMN)


def _made_as_json(made: Made) -> None:
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


@loader_command.command("room", short_help="Plan the room, the jump and the addresses of a resident bootloader.")
@click.argument("target", nargs=-1, metavar="[BOARD] [APPLICATION [at ADDRESS]]…", shell_complete=complete_target)
@click.option("--size", type=Number(), required=True, metavar="SIZE", help="Bytes that the bootloader needs.")
@click.option("--at", "side", type=click.Choice(["top", "bottom"]), help="Of the flash. [Cortex-M bottom, else top]")
@click.option("--bootloader", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
              help="Its image, to be checked; on a Cortex-M its vectors are used.")  # fmt: skip
@_options
def room_command(
    target: tuple[str, ...], size: int, side: Literal["top", "bottom"] | None, bootloader: Path | None,
    flash_size: int | None, saving: Saving, settings: BoardSettings, how: How,
) -> int:  # fmt: skip
    """Plan the room for a resident bootloader: where it starts (in bytes and words), how much is left, the jump at
    the reset vector, and values for the linker. Name an application to check it against the plan; --save writes it
    with its reset vector moved: reset goes to the bootloader, and the application's own jump is kept just below it.

    \b
    greenstep loader room --chip atmega328p --size 1900
    greenstep loader room pump.hex --chip pic18f46k22 --size 1K --save moved.hex
    greenstep loader room --chip stm32f103c8 --size 8K --at bottom
    """
    from greenstep.core.errors import usage
    from greenstep.core.families import reserve
    from greenstep.core.loaders.neighbours import check_application, with_reset_moved
    from greenstep.store.image_files import load_image

    from .image_edit import save_changed
    from .image_target import chosen_or_chip

    these = chosen_or_chip(target, settings, how, flash_size)
    plan = reserve(these.wanted_target().part, size, side)
    loader = None
    if bootloader is not None:
        loader = load_image(bootloader, plan.start)
        if loader.lowest < plan.start or loader.end > plan.end:
            raise usage(
                "bootloader",
                f"{loader.name} ({show_span(loader.lowest, loader.end - loader.lowest)}) lies outside the space "
                f"{show_span(plan.start, plan.size)}",
                f"build it for {show_address(plan.start)}, or give it more: --size",
            )
    image = these.by_memory().get("flash")
    notes = list(check_application(plan, image)) if image is not None else []
    if saving.file is not None:
        if image is None:
            raise usage("no-image", "no application to move the reset vector of", "name its file")
        saving.check()
        image, moved = with_reset_moved(plan, image, loader)
        notes += moved
    if how.as_json:
        _room_as_json(plan, notes)
    else:
        title = these.board.name or (image.name if image is not None else "")
        say_all(_about_room(plan, title, image is not None, notes))
    if image is None or saving.file is None:
        return 0
    if not how.as_json:
        say()
    return save_changed(these, image, saving, how)


def _row(label: str, text: str) -> list[str]:
    return wrapped(f" {label:<{_COLUMN - 1}}{text}", 100, _COLUMN)


def _about_room(plan: Reservation, name: str, checked: bool, notes: list[str]) -> Iterator[str]:
    from greenstep.core.families import FAMILIES

    part = plan.part
    flash = f"{show_size(part.flash.size)} flash"
    yield f"{part.title}   {flash}   a bootloader of {count(plan.wanted, 'byte')} at the {plan.side}"
    yield ""
    words = FAMILIES[part.core].counts_words
    span = show_span(plan.start, plan.size)
    in_words = f"   in words {show_span(plan.start // 2, plan.size // 2)}" if words else ""
    yield from _row("bootloader", f"{span}, {show_size(plan.size)}{in_words}")
    yield from _row("", f"{plan.why}; {count(plan.size - plan.wanted, 'byte')} of it spare")
    in_words = f"   in words {show_span(plan.app_start // 2, plan.app_bytes // 2)}" if words else ""
    yield from _row(
        "application", f"{show_span(plan.app_start, plan.app_bytes)}, {show_size(plan.app_bytes)}{in_words}"
    )
    for number, jump in enumerate(plan.jumps):
        text = f"{show_address(jump.address)}  {show_bytes(jump.code)}   {jump.words}"
        yield from _row("" if number else "jump", text)
    if plan.slot is not None:
        what = "stack pointer and reset handler" if part.core == "cortex-m" else "reset jump"
        yield from _row(
            "kept", f"{show_address(plan.slot)}  the application's own {what}: the bootloader starts it from there"
        )
    for number, (whose, value) in enumerate(plan.linker):
        yield from _row("" if number else "linker", f"{whose:<12} {value}")
    for note in plan.notes:
        yield from _row("note", note)
    if checked:
        yield from _row("checked", f"{name} fits beside it")
    for note in notes:
        yield from _row("" if checked else "note", note)


def _room_as_json(plan: Reservation, notes: list[str]) -> None:
    from .json_view import json_line

    json_line(
        "loader-room",
        part=plan.part.name,
        side=plan.side,
        start=plan.start,
        bytes=plan.size,
        application_start=plan.app_start,
        application_bytes=plan.app_bytes,
        jumps=plan.jumps,
        kept_at=plan.slot,
        linker=dict(plan.linker),
        notes=[*plan.notes, *notes],
    )
