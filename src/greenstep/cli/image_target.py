"""From words and options to images and, where one is named, the chip they are for."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import field
from typing import TYPE_CHECKING, Any, TypeVar

import click

from greenstep.core.dialects.registry import find_dialect
from greenstep.core.errors import usage
from greenstep.core.frozen import frozen
from greenstep.core.image import Image, join
from greenstep.core.image.avr_memories import memory_of
from greenstep.core.plan import memory_named
from greenstep.core.secrets import Secrets
from greenstep.core.wishes import Keep
from greenstep.store.board import BoardSettings, ImageFile
from greenstep.store.image_files import load_image

from .jobs import settings_of
from .options import Number, chip_options, general_options, room_options, set_option
from .target import find_chip, frame_of, settle

if TYPE_CHECKING:
    from greenstep.core.chips import Choice, Memory, Part
    from greenstep.core.dialects.dialect import Dialect
    from greenstep.core.link import LineSettings

Command = TypeVar("Command", bound=Callable[..., Any])


@frozen
class Chosen:
    """`images` are (memory, image), a file each. `part` and `dialect` are None where no chip is named; `settings` are
    the dialect's own, and `candidates` the parts that the chip's name may mean, `part` the likeliest of them."""

    board: str
    said: BoardSettings
    images: tuple[tuple[str, Image], ...]
    part: Part | None = None
    dialect: type[Dialect] | None = None
    settings: Mapping[str, Any] = field(default_factory=dict)
    candidates: tuple[Part, ...] = ()

    @property
    def keep(self) -> tuple[Keep, ...]:
        return self.said.keep or ()

    @property
    def erased(self) -> int:
        """The value of an erased byte."""
        return self.part.flash.erased if self.part else 0xFF

    def by_memory(self) -> dict[str, Image]:
        """The images of each memory joined. Raises ImageFault where they disagree."""
        found: dict[str, list[Image]] = {}
        for memory, image in self.images:
            found.setdefault(memory, []).append(image)
        return {
            memory: join(images[0].name if len(images) == 1 else " + ".join(i.name for i in images), images)
            for memory, images in found.items()
        }


def looking_options(command: Command) -> Command:
    """A chip, as data; no port."""
    return chip_options(flash_size_option(general_options(command)))


flash_size_option: Callable[[Command], Command] = click.option(
    "--flash-size",
    type=Number(),
    metavar="SIZE",
    help="Of this chip, where its name leaves it open: 4M. [by the boot header, else the largest]",
)


def fitting_options(command: Command) -> Command:
    """The same, and what an upload would be told besides."""
    return looking_options(set_option(room_options(command)))


def chosen(words: tuple[str, ...], options: Mapping[str, Any], wanted: str = "a file") -> Chosen:
    """What the words and options name; reads the files. Raises UsageFault, ImageFault."""
    board, said = settle(words, options)
    files = said.images or ()
    if not files:
        raise usage("no-image", f"no image: name {wanted}", "greenstep image show FILE, or a board of greenstep.toml")
    if not said.chip:
        return Chosen(board, said, tuple((file.memory, load_image(file.file, 0, file.at)) for file in files))
    choice = find_chip(said)
    dialect = find_dialect(said.dialect or choice.dialect)
    settings = settings_of(said, dialect, Secrets())
    images = tuple((file.memory, _load(file, choice)) for file in files)
    flash_bytes = options.get("flash_size")
    likely = _likely(choice, images)
    parts = tuple(
        _sized(part, images, flash_bytes).with_loader_room(said.bootloader_bytes)
        for part in (likely, *(part for part in choice.parts if part is not likely))
        if part is likely or flash_bytes is None or flash_bytes <= part.flash.size
    )
    return Chosen(board, said, images, parts[0], dialect, settings, parts)


def chosen_or_chip(words: tuple[str, ...], options: Mapping[str, Any]) -> Chosen:
    """The same where a chip is wanted and no file need be. Raises UsageFault, ImageFault."""
    board, said = settle(words, options)
    choice = find_chip(said)
    if said.images:
        return chosen(words, options)
    part = _sized(choice.first, (), options.get("flash_size"))
    return Chosen(board, said, (), part, find_dialect(said.dialect or choice.dialect), {}, (part,))


def _likely(choice: Choice, images: tuple[tuple[str, Image], ...]) -> Part:
    """Of the parts that a name may mean, the first whose flash can hold the images; else the first."""
    flash = [image for memory, image in images if memory == "flash"]
    for part in choice.parts:
        if all(part.flash.start <= image.lowest and image.end <= part.flash.usable_end for image in flash):
            return part
    return choice.first


def _sized(part: Part, images: tuple[tuple[str, Image], ...], flash_bytes: int | None) -> Part:
    """The part with the flash it is said to have, or that a boot header says. Raises UsageFault."""
    if flash_bytes is None and not part.size_known:
        from greenstep.core.image.origin import flash_bytes_said

        flash_bytes = next((size for _, image in images if (size := flash_bytes_said(image))), None)
        if flash_bytes is not None and flash_bytes > part.flash.size:
            flash_bytes = None
    if flash_bytes is None:
        return part
    try:
        return part.with_memory(part.flash.resized(flash_bytes))
    except ValueError as error:
        raise usage("flash-size", f"--flash-size: {error}", f"the {part.title} has at most that") from None


def _load(file: ImageFile, choice: Choice) -> Image:
    memory: Memory = memory_named(choice.first, file.memory)
    return memory_of(load_image(file.file, memory.start, file.at), file.memory)


def line_of(these: Chosen) -> LineSettings:
    """Rate and frame that an upload would have. `part` and `dialect` are there. Raises UsageFault."""
    from greenstep.core.link import LineSettings

    assert these.part is not None
    assert these.dialect is not None
    return LineSettings(these.said.baud or these.part.baud, frame_of(these.said, these.dialect))
