"""`greenstep image map`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from greenstep.core.image.flash_map import LETTERS
from greenstep.core.quantities import count, show_size, show_span
from greenstep.store.board import BoardSettings

from .completion import complete_target
from .figures import save_figure, saved_line
from .image_target import Chosen, chosen, fitting_options
from .options import How
from .screen import painted, say, side_by_side

if TYPE_CHECKING:
    from greenstep.core.image.flash_map import Cell, FlashMap, Grid

_SIGNS = {"bootloader": "#", "kept": "k", "free": "·"}
_COLOURS = ("blue", "yellow", "green", "magenta", "cyan", "red")
_SHADES = {"bootloader": "bright_black", "kept": "bright_red", "free": None}


@click.command("map", short_help="Where images lie in the flash.")
@click.argument("target", nargs=-1, metavar="[BOARD] [FILE [at ADDRESS]]…", shell_complete=complete_target)
@click.option("--save", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE", help="A figure: PNG, SVG.")
@fitting_options
def map_command(
    target: tuple[str, ...], save: Path | None, flash_size: int | None, settings: BoardSettings, how: How
) -> int:
    """Where images lie: in the chip's flash where a chip or a board is named, else from their lowest to their highest
    byte. A capital letter marks a cell that an image fills, a small one a cell that it begins or ends in.

    \b
    greenstep image map apiary-gateway --save gateway.png
    greenstep image map boot.hex scale.hex --chip atmega328p
    """
    from greenstep.core.image.flash_map import grid_of, map_of, map_of_images

    these = chosen(target, settings, how, flash_size)
    images = [image for memory, image in these.images if memory == "flash"]
    _check_room(these)
    drawn = map_of(these.target.part.flash, images, these.keep) if these.target else map_of_images(images)
    title = _title(these, drawn)
    save_figure(save, "flash_figures:save_map", drawn, title)
    if how.as_json:
        _as_json(drawn)
        return 0
    _as_text(drawn, grid_of(drawn), title)
    saved_line(save)
    return 0


def _check_room(these: Chosen) -> None:
    """A map that shows none of the images would say nothing. Raises UsageFault."""
    from greenstep.core.errors import usage

    images = [image for memory, image in these.images if memory == "flash"]
    if not images:
        raise usage("no-image", "none of these images is for the flash", "name one")
    if these.target is None:
        return
    part = these.target.part
    if part.core == "any":
        raise usage("no-map", "where this board's memory lies is not known", "leave --chip out")
    flash = part.flash
    for image in images:
        if not image.touches(flash.start, flash.size):
            raise usage(
                "outside",
                f"{image.name} ({show_span(image.lowest, image.end - image.lowest)}) lies outside the flash of the "
                f"{part.title} ({show_span(flash.start, flash.size)})",
                "is --chip right?",
                "leave --chip out to see the image alone",
            )


def _title(these: Chosen, drawn: FlashMap) -> str:
    if these.target is None:
        return f"{' + '.join(image.name for image in drawn.images)}   {show_span(drawn.start, drawn.size)}"
    part = these.target.part
    whole = f"{show_size(drawn.size)} flash, {show_span(drawn.start, drawn.size)}"
    return "   ".join(word for word in (these.board.name, part.title, whole) if word)


def _as_text(drawn: FlashMap, grid: Grid, title: str) -> None:
    unit = _unit_words(drawn, grid.cell_bytes)
    say(f"{title}   one character is {show_size(grid.cell_bytes)}{unit}", "")
    for address, cells in grid.rows:
        digits = 4 if drawn.end <= 0x10000 else 8
        say(side_by_side(f" {address:0{digits}X}  ", *map(_sign, cells)))
    say()
    for number, image in enumerate(drawn.images):
        letter = painted(LETTERS[number % 26], fg=_COLOURS[number % len(_COLOURS)])
        held = drawn.held(number)
        outside = f", {count(image.size_bytes - held, 'byte')} outside" if held < image.size_bytes else ""
        pieces = f" in {len(image.pieces)} pieces" if len(image.pieces) > 1 else ""
        span = show_span(image.lowest, image.end - image.lowest)
        say(side_by_side(" ", letter, f"  {image.name}   {count(held, 'byte')}{pieces}, {span}{outside}"))
    for stretch in drawn.stretches:
        if stretch.kind in ("bootloader", "kept"):
            sign = painted(_SIGNS[stretch.kind], fg=_SHADES[stretch.kind])
            why = f" ({stretch.why})" if stretch.why else ""
            size = stretch.end - stretch.start
            words = f"  {stretch.kind}{why}   {show_size(size)}, {show_span(stretch.start, size)}"
            say(side_by_side(" ", sign, words))
    say(f" ·  free   {show_size(drawn.total('free'))}")
    if any(cell.clash for _, cells in grid.rows for cell in cells):
        say(" *  more than one image in that cell")


def _unit_words(drawn: FlashMap, cell_bytes: int) -> str:
    sizes = {unit.size for unit in drawn.units}
    if not sizes:
        return ""
    if len(sizes) > 1:
        return f"; erase units of {show_size(min(sizes))} to {show_size(max(sizes))}"
    size = sizes.pop()
    if size == cell_bytes:
        return ", an erase unit"
    if size > cell_bytes:
        return f"; {size // cell_bytes} to an erase unit"
    return f", {cell_bytes // size} erase units"


def _sign(cell: Cell) -> str:
    if cell.clash:
        return painted("*", fg="red", bold=True)
    if cell.kind == "image":
        letter = LETTERS[cell.number % 26]
        colour = _COLOURS[cell.number % len(_COLOURS)]
        return painted(letter if cell.full else letter.lower(), fg=colour)
    return painted(_SIGNS[cell.kind], fg=_SHADES[cell.kind])


def _as_json(drawn: FlashMap) -> None:
    from .json_view import json_line, plain

    stretches = [
        {**plain(s), "image": drawn.images[s.number].name if s.kind == "image" else None} for s in drawn.stretches
    ]
    json_line("map", start=drawn.start, end=drawn.end, stretches=stretches, erase_units=drawn.units)
