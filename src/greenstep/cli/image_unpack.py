"""`greenstep image unpack`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from greenstep.core.errors import usage
from greenstep.core.image.file_system import file_systems_in, unpack
from greenstep.core.image.model import ImageFault
from greenstep.core.quantities import count, show_address
from greenstep.core.safety.harmless_text import plain_name
from greenstep.store.board import BoardSettings
from greenstep.store.whole_files import write_whole

from .completing import complete_target
from .image_target import chosen, looking_options
from .options import How
from .screen import say

if TYPE_CHECKING:
    from greenstep.core.image.file_system import Kept


@click.command("unpack", short_help="The files of a littlefs or FAT in one.")
@click.argument("target", nargs=-1, metavar="[BOARD] FILE [at ADDRESS]…", shell_complete=complete_target)
@click.option("--save", type=click.Path(path_type=Path, file_okay=False), metavar="FOLDER",
              help="Write the files there. [only list them]")  # fmt: skip
@click.option("--replace", is_flag=True, help="Replace files that are there.")
@looking_options
def unpack_command(
    target: tuple[str, ...], save: Path | None, replace: bool, flash_size: int | None, said: BoardSettings, how: How
) -> int:
    """List the files of every littlefs and FAT in an image, or write them into a folder.

    \b
    greenstep image unpack pages.bin
    greenstep image unpack gateway-backup.bin --save pages
    """
    these = chosen(target, said, how, flash_size)
    found: list[tuple[int, str, list[Kept]]] = []
    damaged: list[tuple[int, str, ImageFault]] = []
    for _, image in these.images:
        for one in file_systems_in(image):
            try:
                found.append((one.address, one.kind, unpack(image.name, one.kind, one.data)))
            except ImageFault as fault:  # the others are shown and saved all the same
                damaged.append((one.address, one.kind, fault))
    if not found and not damaged:
        raise usage("no-file-system", "no littlefs or FAT is in there", "greenstep image show tells what is")
    several = len(found) + len(damaged) > 1
    for at, kind, files in found:
        if how.as_json:
            from .json_view import json_line

            rows = [{"path": one.path, "bytes": len(one.data)} for one in files]
            json_line("files", address=at, kind=kind, files=rows)
        else:
            say(f"{show_address(at)}  {kind}, {count(len(files), 'file')}")
            for kept in files:
                say(f"  {len(kept.data):>10,}  {kept.path}")
        if save is not None:
            renamed = _write(files, save / f"{at:08X}" if several else save, replace)
            for path, place in () if how.as_json else renamed.items():
                say(f"  {path} is saved as {place}: its own name holds control characters")
    if save is not None and not how.as_json:
        say(f"saved in {save}" if any(files for _, _, files in found) else "nothing to save")
    for at, kind, _ in damaged if several and not how.as_json else ():
        say(f"{show_address(at)}  {kind}, damaged")
    if damaged:
        raise damaged[0][2]
    return 0


def _write(files: list[Kept], folder: Path, replace: bool) -> dict[str, Path]:
    """Write them below a folder, and nowhere else. Returns those that are called otherwise there. Raises UsageFault
    before the first is written."""
    places: dict[Path, bytes] = {}
    renamed: dict[str, Path] = {}
    taken = {one.path for one in files}
    for one in files:
        name = plain_name(one.path)
        while name != one.path and (name in taken or folder / name in places):
            name += "_"
        if name != one.path:
            renamed[one.path] = folder / name
        places[folder / name] = one.data
    for place in places:
        if not place.is_relative_to(folder) or ".." in place.relative_to(folder).parts:
            raise usage("unsafe-path", f"a file would lie outside of {folder}: {place}", "look at it without --save")
        if place.exists() and not replace:
            raise usage("file-there", f"{place} is there already", "another folder, or --replace")
    try:
        for place, data in places.items():
            place.parent.mkdir(parents=True, exist_ok=True)
            write_whole(place, [data])
    except OSError as error:
        raise usage("unwritable", f"{error.filename} cannot be written: {error.strerror}", "another --save") from None
    return renamed
