"""`greenstep image join`, `cut`, `convert` and `unpack`."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from greenstep.core.errors import usage
from greenstep.core.frozen import frozen
from greenstep.core.image.file_system import file_systems_in, unpack
from greenstep.core.image.model import ImageFault
from greenstep.core.image.patch import FORM
from greenstep.core.quantities import count, show_address, show_span
from greenstep.core.safety.harmless_text import plain_name
from greenstep.store.board import BoardSettings
from greenstep.store.image_files import KINDS, Kind, check_place, kind_for, save_image
from greenstep.store.whole_files import write_whole

from .completion import complete_target
from .image_target import Chosen, chosen, looking_options
from .options import How, Number, Whole, region_options, set_option
from .screen import say

if TYPE_CHECKING:
    from greenstep.core.image import Image
    from greenstep.core.image.file_system import Kept


@frozen
class Saving:
    """Where an image goes: the file (None: nowhere), the format if given, whether a file may be replaced, bytes per
    line of a text format, and the byte that gaps are filled with."""

    file: Path | None
    kind: Kind | None
    replace: bool
    record_bytes: int
    fill: int | None

    def check(self) -> None:
        """Before any work: can it be saved? Raises UsageFault."""
        if self.file is not None:
            kind_for(self.file, self.kind)
            check_place(self.file, self.replace)
        if self.fill is not None and not 0 <= self.fill <= 0xFF:
            raise usage("fill", f"--fill {self.fill} is not a byte", "0x00 to 0xFF")


def saving_options(command: Callable[..., int], required: bool = True) -> Callable[..., int]:
    """Where an image goes, and in which format; the command is called with `saving`."""

    @wraps(command)
    def run(**values: Any) -> int:
        names = (("file", "save"), ("kind", "kind"), ("replace", "replace"), ("record_bytes", "record_bytes"))
        saving = Saving(**{name: values.pop(option) for name, option in (*names, ("fill", "fill"))})
        return command(saving=saving, **values)

    options: Sequence[Callable[[Callable[..., int]], Callable[..., int]]] = (
        click.option("--save", type=click.Path(path_type=Path, dir_okay=False), required=required, metavar="FILE",
                     help="Output file; its ending gives the format."),
        click.option("--as", "kind", type=click.Choice(list(KINDS)), help="Its format, if the ending gives none."),
        click.option("--replace", is_flag=True, help="Replace a file that is there."),
        click.option("--record-bytes", type=Whole(1, 255), default=16, metavar="NUMBER",
                     help="Bytes per line of a text format. [16]"),
        click.option("--fill", type=Number(), metavar="VALUE",
                     help="Make gaps this byte: 0xFF. [raw: the erased value; else they stay gaps]"),
    )  # fmt: skip
    for option in reversed(options):
        run = option(run)
    return run


@click.command("join", short_help="Several as one file.")
@click.argument("target", nargs=-1, metavar="[BOARD] FILE [at ADDRESS]…", shell_complete=complete_target)
@saving_options
@looking_options
def join_command(
    target: tuple[str, ...], flash_size: int | None, saving: Saving, settings: BoardSettings, how: How
) -> int:
    """Several images as one file. They may overlap only where they agree.

    \b
    greenstep image join boot.hex scale.hex --save whole.hex
    greenstep image join apiary-gateway --save gateway-whole.bin
    """
    these = _ready(target, settings, how, flash_size, saving)
    return save_changed(these, _flash(these), saving, how)


@click.command("cut", short_help="A part of one as a file.")
@click.argument("target", nargs=-1, metavar="[BOARD] FILE [at ADDRESS]…", shell_complete=complete_target)
@region_options
@saving_options
@looking_options
def cut_command(
    target: tuple[str, ...], region_from: int | None, region_size: int | None, flash_size: int | None,
    saving: Saving, settings: BoardSettings, how: How,
) -> int:  # fmt: skip
    """What an image holds from one address on, as a file of its own.

    \b
    greenstep image cut whole.hex --from 0x7E00 --size 512 --save boot.hex
    """
    from greenstep.core.image.edit import HIGHEST, cut_out

    if region_from is None and region_size is None:
        raise usage("region", "cut out what?", "--from ADDRESS, --size SIZE, or both")
    these = _ready(target, settings, how, flash_size, saving)
    image = _flash(these)
    start = image.lowest if region_from is None else region_from
    end = HIGHEST if region_size is None else start + region_size
    part = cut_out(image, start, end)
    if not part.pieces:
        spans = ", ".join(show_span(p.address, len(p.data)) for p in image.pieces[:4])
        raise usage("outside", f"{image.name} holds nothing there", f"it holds {spans}")
    return save_changed(these, part, saving, how)


@click.command("convert", short_help="Another format, place or content.")
@click.argument("target", nargs=-1, metavar="[BOARD] FILE [at ADDRESS]…", shell_complete=complete_target)
@click.option("--move-to", type=Number(), metavar="ADDRESS", help="Move it: its lowest byte goes to this address.")
@click.option("--patch", multiple=True, metavar=FORM,
              help="Replace bytes, in hexadecimal or quoted: '0x7C=32 2E 35', '0x7C=\"2.5\"'.")  # fmt: skip
@set_option
@click.option(
    "--fix-sums", "sums", is_flag=True, help="Correct what the chip's ROM checks: ESP header, LPC vectors, PIC jump."
)
@region_options
@saving_options
@looking_options
def convert_command(
    target: tuple[str, ...], move_to: int | None, patch: tuple[str, ...], sums: bool, region_from: int | None,
    region_size: int | None, flash_size: int | None, saving: Saving, settings: BoardSettings, how: How,
) -> int:  # fmt: skip
    """Another format of the same image; on the way it is moved, then patched, then filled (from --from, so many bytes
    as --size says, else from its lowest to its highest byte), then its sums are corrected.

    \b
    greenstep image convert scale.elf --save scale.hex
    greenstep image convert scale.bin at 0 --move-to 0x1000 --save moved.s19
    greenstep image convert a.bin --patch '0x2A="bees"' --fix-sums --save b.bin
    """
    from greenstep.core.families import origins_of
    from greenstep.core.image.edit import filled, moved, with_bytes

    if saving.fill is None and (region_from is not None or region_size is not None):
        raise usage("region", "--from and --size say what is filled", "with --fill VALUE", "to cut: image cut")
    patches = [_patch(text) for text in patch]
    these = _ready(target, settings, how, flash_size, saving)
    image = _flash(these)
    try:
        if move_to is not None:
            image = moved(image, move_to - image.lowest)
        origins = origins_of(image)
        for address, data in patches:
            image = with_bytes(image, address, data)
        if saving.fill is not None and (region_from is not None or region_size is not None):
            low = image.lowest if region_from is None else region_from
            image = filled(image, saving.fill, low, None if region_size is None else low + region_size)
            saving = replace(saving, fill=None)
    except ValueError as error:
        raise usage("change", f"{image.name}: {error}") from None
    notes = [f"{count(len(data), 'byte')} patched at {show_address(address)}" for address, data in patches]
    if sums:
        image, more = _with_sums(these, image, origins)
        notes += more
    return save_changed(these, image, saving, how, notes)


def _ready(
    target: tuple[str, ...], settings: BoardSettings, how: How, flash_size: int | None, saving: Saving
) -> Chosen:
    """The images, if they can be saved. Raises UsageFault, ImageFault."""
    saving.check()
    return chosen(target, settings, how, flash_size)


def _flash(these: Chosen) -> Image:
    """The images of one memory as one. Raises UsageFault, ImageFault."""
    images = these.by_memory()
    if len(images) > 1:
        raise usage("memories", f"these are for {' and '.join(images)}", "name the files of one memory")
    return next(iter(images.values()))


def _patch(text: str) -> tuple[int, bytes]:
    """`0x7C=32 2E 35` or `0x7C="2.5"`. Raises UsageFault."""
    from greenstep.core.image.patch import parse_patch

    try:
        patch = parse_patch(text)
        if patch.fields or patch.memory != "flash":
            raise ValueError("fields and memories are for batch")
        return patch.address, patch.data({})
    except ValueError as error:
        tries = f"write {FORM}: '0x7C=32 2E 35' or '0x7C=\"2.5\"'"
        raise usage("patch", f"--patch {text}: {error}", tries) from None


def _with_sums(these: Chosen, image: Image, origins: Sequence[Any]) -> tuple[Image, list[str]]:
    from greenstep.core.families.esp import renew_headers
    from greenstep.core.image.rom_sums import fitted

    image, notes = renew_headers(image, origins)
    if these.target is not None:
        image, more = fitted(image, these.target.part, these.target.dialect, these.target.settings)
        notes += more
    elif not notes:
        raise usage("no-chip", "the sums of which chip?", "--chip NAME")
    return image, list(notes) or ["nothing to correct: this family has no such sums"]


def _filled(image: Image, fill: int) -> Image:
    """Gaps between its lowest and highest byte filled. Raises UsageFault."""
    from greenstep.core.image.edit import filled

    try:
        return filled(image, fill)
    except ValueError as error:
        raise usage("change", f"{image.name}: {error}", "cut out what is wanted: greenstep image cut") from None


def save_changed(these: Chosen, image: Image, saving: Saving, how: How, notes: Sequence[str] = ()) -> int:
    """Write the file, if one is wanted, and say what it is; `notes` are what was changed on the way. Returns the exit
    status. Raises UsageFault."""
    from greenstep.core.image.content import digest_of

    if saving.file is None:
        return 0
    kind, fill = kind_for(saving.file, saving.kind), saving.fill
    if fill is not None:
        image = _filled(image, fill)
    erased = these.erased if fill is None else fill
    words, lost = save_image(saving.file, image, kind, erased, saving.record_bytes)
    digest = digest_of(image, these.erased)
    if how.as_json:
        from .json_view import json_line

        json_line(
            "saved",
            file=saving.file,
            format=kind,
            bytes=image.size_bytes,
            pieces=image.pieces,
            crc32=digest.crc32,
            notes=(*notes, *lost),
        )
        return 0
    for note in (*notes, *lost):
        say(f" note: {note}")
    say(f" saved {saving.file}: {words}, crc32 {digest.crc32:08X}")
    return 0


@click.command("unpack", short_help="The files of a littlefs or FAT in one.")
@click.argument("target", nargs=-1, metavar="[BOARD] FILE [at ADDRESS]…", shell_complete=complete_target)
@click.option("--save", type=click.Path(path_type=Path, file_okay=False), metavar="FOLDER",
              help="Write the files there. [only list them]")  # fmt: skip
@click.option("--replace", is_flag=True, help="Replace files that are there.")
@looking_options
def unpack_command(
    target: tuple[str, ...],
    save: Path | None,
    replace: bool,
    flash_size: int | None,
    settings: BoardSettings,
    how: How,
) -> int:
    """List the files of every littlefs and FAT in an image, or write them into a folder.

    \b
    greenstep image unpack pages.bin
    greenstep image unpack gateway-backup.bin --save pages
    """
    these = chosen(target, settings, how, flash_size)
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
